import type { Knex } from 'knex';

/** How many requests each environment had in an hour, and the calendars that people follow. */
export async function addTraffic(knex: Knex): Promise<void> {
  await knex.schema
    .createTable('traffic_hour', (t) => {
      t.text('environment').notNullable();
      t.timestamp('at').notNullable();
      t.bigInteger('requests').notNullable();
      t.primary(['environment', 'at']);
    })
    .createTable('calendar', (t) => {
      t.text('person_id').primary().references('person.id').onDelete('CASCADE');
      t.text('hash').notNullable().unique();
      t.timestamp('created_at').notNullable();
    });
}
