import type { Knex } from 'knex';

/** What a copy holds may have come from another site; that is not forgotten when it is copied on. */
export async function addForeignOrigins(knex: Knex): Promise<void> {
  await knex.schema.alterTable('environment', (t) => {
    t.text('foreign_origin');
  });
  await knex.raw(
    `UPDATE environment SET foreign_origin = split_part(made_from, ' ', 1)
       WHERE made_from IS NOT NULL AND split_part(made_from, '/', 1) <> site`,
  );
}
