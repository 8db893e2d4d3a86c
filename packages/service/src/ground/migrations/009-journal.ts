import type { Knex } from 'knex';

/** The journal, and beside it what can be erased. */
export async function addJournal(knex: Knex): Promise<void> {
  await knex.schema
    .createTable('journal_entry', (t) => {
      t.text('id').primary();
      t.timestamp('at').notNullable();
      t.text('actor').notNullable();
      t.text('act').notNullable();
      t.text('outcome').notNullable();
      t.text('thing').notNullable();
      t.text('details').notNullable();
      t.text('side').notNullable();
      t.text('stamp').notNullable();
      t.bigInteger('position').unique();
      t.text('seal');
      /** Has no stamp of ours, and gets no seal. */
      t.boolean('is_foreign').notNullable().defaultTo(false);
      t.index(['at', 'id']);
      t.index(['actor', 'at', 'id']);
      t.index(['act', 'at', 'id']);
      t.index(['thing', 'at', 'id']);
    })
    .createTable('journal_side', (t) => {
      t.text('entry_id').primary();
      t.text('person_id').index();
      t.text('salt').notNullable();
      t.text('text').notNullable();
    });
  await knex.raw('CREATE INDEX journal_unsealed ON journal_entry (at, id) WHERE position IS NULL AND NOT is_foreign');
}
