import type { Knex } from 'knex';

/** People without an account, who look at previews and variants by a link, comment, choose, and say yes. */
export async function addGuests(knex: Knex): Promise<void> {
  await knex.schema
    .createTable('guest_link', (t) => {
      t.text('id').primary();
      t.text('site').notNullable().references('site.name').onDelete('CASCADE').index();
      t.text('name').notNullable();
      t.text('mail');
      t.text('words').notNullable();
      t.text('passcode_hash');
      t.text('person_id').notNullable().references('person.id');
      t.timestamp('created_at').notNullable();
      t.timestamp('expires_at').notNullable();
      t.timestamp('ended_at');
      t.timestamp('last_seen_at');
      // Position of what they chose, of several.
      t.integer('choice');
      t.timestamp('chosen_at');
    })
    .createTable('guest_look', (t) => {
      t.text('link_id').notNullable().references('guest_link.id').onDelete('CASCADE');
      t.integer('position').notNullable();
      t.text('title').notNullable();
      t.text('request_id').references('change_request.id').onDelete('CASCADE').index();
      t.text('environment').index();
      t.primary(['link_id', 'position']);
      t.check('(request_id IS NULL) <> (environment IS NULL)');
    })
    .createTable('guest_word', (t) => {
      t.text('id').primary();
      t.text('link_id').notNullable().references('guest_link.id').onDelete('CASCADE');
      t.integer('position').notNullable();
      t.text('thread').notNullable();
      // Null where a guest wrote it.
      t.text('person_id').references('person.id');
      t.text('text').notNullable();
      t.timestamp('at').notNullable();
      t.index(['link_id', 'at', 'id']);
    });
  for (const [table, index] of [
    ['request_comment', undefined],
    ['request_verdict', ['request_id', 'guest']],
    ['request_event', undefined],
  ] as const)
    await knex.schema.alterTable(table, (t) => {
      t.text('guest').references('guest_link.id');
      t.setNullable('person_id');
      if (index) t.index([...index]);
    });
  await knex.raw(
    'ALTER TABLE request_comment ADD CONSTRAINT request_comment_author CHECK ((person_id IS NULL) <> (guest IS NULL))',
  );
  await knex.raw(
    'ALTER TABLE request_verdict ADD CONSTRAINT request_verdict_author CHECK ((person_id IS NULL) <> (guest IS NULL))',
  );
  await knex.schema.alterTable('lane_rule', (t) => {
    t.integer('guests').notNullable().defaultTo(0);
  });
}
