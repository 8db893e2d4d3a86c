import type { Knex } from 'knex';

/** What people are told, and what of it is mailed. */
export async function addNotices(knex: Knex): Promise<void> {
  await knex.schema
    .createTable('notice', (t) => {
      t.text('id').primary();
      t.text('person_id').notNullable().references('person.id').onDelete('CASCADE');
      t.text('kind').notNullable();
      t.text('request_id').notNullable().references('change_request.id').onDelete('CASCADE');
      t.text('by').references('person.id');
      t.text('words').notNullable();
      t.text('item');
      t.timestamp('at').notNullable();
      t.timestamp('seen_at');
      // Null for what is not mailed.
      t.timestamp('mail_due_at');
      t.timestamp('mailed_at');
      t.integer('mail_tries').notNullable().defaultTo(0);
      t.text('mail_problem');
      t.index(['person_id', 'at', 'id']);
    })
    .createTable('notice_wish', (t) => {
      t.text('person_id').notNullable().references('person.id').onDelete('CASCADE');
      t.text('kind').notNullable();
      t.text('mail').notNullable();
      t.primary(['person_id', 'kind']);
    });
  await knex.raw(
    'CREATE INDEX notice_to_mail ON notice (mail_due_at) WHERE mailed_at IS NULL AND mail_due_at IS NOT NULL',
  );
}
