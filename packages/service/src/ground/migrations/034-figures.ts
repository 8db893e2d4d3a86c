import type { Knex } from 'knex';

/** What each environment was measured to be on a day, and the views that people keep. */
export async function addFigures(knex: Knex): Promise<void> {
  await knex.schema
    .createTable('measure', (t) => {
      t.text('environment').notNullable().references('environment.path').onDelete('CASCADE').onUpdate('CASCADE');
      t.date('day').notNullable();
      // Null where it was not looked for.
      t.integer('up');
      t.integer('down');
      t.bigInteger('bytes');
      t.primary(['environment', 'day']);
    })
    .createTable('saved_view', (t) => {
      t.text('id').primary();
      t.text('person_id').notNullable().references('person.id').onDelete('CASCADE');
      t.text('room').notNullable();
      t.text('name').notNullable();
      t.text('query').notNullable();
      t.unique(['person_id', 'room', 'name']);
    });
  // What is known now is where it begins.
  await knex.raw(
    `INSERT INTO measure (environment, day, up, down, bytes)
     SELECT path, (now() AT TIME ZONE 'UTC')::date, (drift ->> 'up')::int, (drift ->> 'down')::int,
            (size ->> 'fileBytes')::bigint + (size ->> 'databaseBytes')::bigint
     FROM environment WHERE drift IS NOT NULL OR size IS NOT NULL`,
  );
}
