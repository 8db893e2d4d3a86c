import type { Knex } from 'knex';

/** Roles for people and teams, invitations, sessions that are listed, tokens that are limited. */
export async function addAccess(knex: Knex): Promise<void> {
  await knex.schema
    .alterTable('person', (t) => {
      t.setNullable('password_hash');
      t.text('state').notNullable().defaultTo('active');
      t.timestamp('last_seen_at');
    })
    .alterTable('session', (t) => {
      t.text('id');
      t.timestamp('last_seen_at');
      t.text('address');
    })
    .alterTable('token', (t) => {
      t.jsonb('permissions');
      t.text('scope').notNullable().defaultTo('everything');
    })
    .createTable('role', (t) => {
      t.text('name').primary();
      t.text('title').notNullable();
      t.jsonb('permissions').notNullable();
    })
    .createTable('team', (t) => {
      t.text('name').primary();
      t.text('title').notNullable();
    })
    .createTable('team_member', (t) => {
      t.text('team').notNullable().references('team.name').onDelete('CASCADE');
      t.text('person_id').notNullable().references('person.id').onDelete('CASCADE');
      t.primary(['team', 'person_id']);
    })
    .createTable('role_grant', (t) => {
      t.text('id').primary();
      t.text('person_id').references('person.id').onDelete('CASCADE').index();
      t.text('team').references('team.name').onDelete('CASCADE').index();
      t.text('role').notNullable();
      t.text('scope').notNullable();
      t.timestamp('created_at').notNullable();
      t.unique(['person_id', 'team', 'role', 'scope']);
      t.check('(person_id IS NULL) <> (team IS NULL)');
    })
    .createTable('invitation', (t) => {
      t.text('hash').primary();
      t.text('person_id').notNullable().references('person.id').onDelete('CASCADE');
      t.timestamp('created_at').notNullable();
      t.timestamp('expires_at').notNullable();
    });
  // A session that is listed needs a name of its own.
  await knex('session').delete();
  await knex.schema.alterTable('session', (t) => t.text('id').notNullable().unique().alter());
  // Whoever was there before could do everything.
  await knex.raw(
    `INSERT INTO role_grant (id, person_id, role, scope, created_at)
     SELECT 'g' || substr(id, 2), id, 'administrator', 'everything', created_at FROM person`,
  );
}
