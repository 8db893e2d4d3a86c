import type { Knex } from 'knex';

/** Mails that hold a link which lets somebody in: encrypted until they are taken, and gone then. */
export async function addLetters(knex: Knex): Promise<void> {
  await knex.schema.createTable('letter', (t) => {
    t.text('id').primary();
    t.text('content').notNullable();
    t.timestamp('at').notNullable();
    t.timestamp('due_at').notNullable().index();
    t.integer('tries').notNullable().defaultTo(0);
    t.text('problem');
  });
}
