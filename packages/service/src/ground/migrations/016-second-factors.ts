import type { Knex } from 'knex';

/** A second factor beside the password, and who somebody is at an OpenID provider. */
export async function addSecondFactors(knex: Knex): Promise<void> {
  await knex.schema
    .createTable('second_factor', (t) => {
      t.text('person_id').primary().references('person.id').onDelete('CASCADE');
      // Encrypted.
      t.text('secret').notNullable();
      t.timestamp('created_at').notNullable();
      // Null until a first code was right: before that it is not asked for.
      t.timestamp('confirmed_at');
      // The newest step of time whose code was used: a code works once.
      t.bigInteger('last_step').notNullable().defaultTo(0);
    })
    .createTable('recovery_code', (t) => {
      t.text('person_id').notNullable().references('person.id').onDelete('CASCADE');
      t.text('hash').notNullable();
      t.primary(['person_id', 'hash']);
    })
    .createTable('identity', (t) => {
      t.text('issuer').notNullable();
      t.text('subject').notNullable();
      t.text('person_id').notNullable().references('person.id').onDelete('CASCADE').index();
      t.timestamp('created_at').notNullable();
      t.primary(['issuer', 'subject']);
    });
}
