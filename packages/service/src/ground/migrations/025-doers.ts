import type { Knex } from 'knex';

const TABLES = ['transfer', 'forecast', 'profile'] as const;

/** Who did it, by id beside the name, so that somebody's name can be erased. */
export async function addDoers(knex: Knex): Promise<void> {
  for (const table of TABLES) {
    await knex.schema.alterTable(table, (t) => {
      t.text('person_id').index();
    });
    // A name that two people have tells of neither.
    await knex.raw(
      `UPDATE ?? AS done SET person_id = p.id FROM person p
       WHERE p.name = done.person AND NOT EXISTS (SELECT FROM person o WHERE o.name = p.name AND o.id <> p.id)`,
      [table],
    );
  }
}
