import type { Knex } from 'knex';

/** Change requests, what lanes ask for, windows and freezes. */
export async function addRequests(knex: Knex): Promise<void> {
  await knex.schema
    .createTable('lane_rule', (t) => {
      t.text('site').notNullable().references('site.name').onDelete('CASCADE');
      t.text('onto').notNullable();
      t.integer('approvals').notNullable();
      t.jsonb('teams').notNullable();
      t.boolean('threads_block').notNullable();
      t.primary(['site', 'onto']);
    })
    .createTable('change_request', (t) => {
      t.text('id').primary();
      t.text('site').notNullable().index();
      t.text('from_path').notNullable();
      t.text('onto_path').notNullable().index();
      t.text('title').notNullable();
      t.text('description').notNullable();
      t.text('state').notNullable();
      t.text('author').notNullable().references('person.id');
      t.timestamp('created_at').notNullable();
      t.timestamp('updated_at').notNullable();
      t.integer('revision').notNullable();
      t.text('forecast').notNullable();
      t.text('revising');
      t.timestamp('deliver_at');
      t.text('deliverer').references('person.id');
      t.text('override');
      t.text('transfer');
      t.text('because');
      t.text('urgent');
      t.index(['created_at', 'id']);
      t.index(['author', 'created_at', 'id']);
      t.index(['state', 'created_at', 'id']);
    })
    .createTable('request_revision', (t) => {
      t.text('request_id').notNullable().references('change_request.id').onDelete('CASCADE');
      t.integer('number').notNullable();
      t.text('forecast').notNullable();
      t.timestamp('at').notNullable();
      t.text('person_id').notNullable().references('person.id');
      t.jsonb('items').notNullable();
      t.primary(['request_id', 'number']);
    })
    .createTable('request_reviewer', (t) => {
      t.text('request_id').notNullable().references('change_request.id').onDelete('CASCADE').index();
      t.text('person_id').references('person.id').index();
      t.text('team').references('team.name').onDelete('CASCADE').index();
      t.check('(person_id IS NULL) <> (team IS NULL)');
    })
    .createTable('request_verdict', (t) => {
      t.specificType('id', 'bigint generated always as identity primary key');
      t.text('request_id').notNullable().references('change_request.id').onDelete('CASCADE').index();
      t.text('person_id').notNullable().references('person.id');
      t.text('says').notNullable();
      t.text('words').notNullable();
      t.integer('revision').notNullable();
      t.timestamp('at').notNullable();
      // Sent back, and asked for again since.
      t.boolean('is_answered').notNullable().defaultTo(false);
    })
    .createTable('request_seen', (t) => {
      t.text('request_id').notNullable().references('change_request.id').onDelete('CASCADE');
      t.text('person_id').notNullable().references('person.id');
      t.text('item').notNullable();
      t.text('hash').notNullable();
      t.primary(['request_id', 'person_id', 'item']);
    })
    .createTable('request_comment', (t) => {
      t.text('id').primary();
      t.text('request_id').notNullable().references('change_request.id').onDelete('CASCADE').index();
      // Of the first comment of the thread; its own for that one.
      t.text('thread').notNullable();
      t.text('item');
      t.text('field');
      t.integer('revision').notNullable();
      t.text('person_id').notNullable().references('person.id');
      t.text('text').notNullable();
      t.timestamp('at').notNullable();
      t.timestamp('edited_at');
      t.timestamp('removed_at');
      t.jsonb('former').notNullable().defaultTo('[]');
      t.timestamp('resolved_at');
      t.text('resolved_by').references('person.id');
    })
    .createTable('request_step', (t) => {
      t.text('id').primary();
      t.text('request_id').notNullable().references('change_request.id').onDelete('CASCADE').index();
      t.integer('position').notNullable();
      t.text('phase').notNullable();
      t.text('text').notNullable();
      t.text('done_by').references('person.id');
      t.timestamp('done_at');
    })
    .createTable('request_event', (t) => {
      t.specificType('id', 'bigint generated always as identity primary key');
      t.text('request_id').notNullable().references('change_request.id').onDelete('CASCADE').index();
      t.timestamp('at').notNullable();
      t.text('person_id').references('person.id');
      t.text('act').notNullable();
      t.text('words').notNullable();
    })
    .createTable('claim', (t) => {
      t.text('onto_path').notNullable();
      t.text('item').notNullable();
      t.text('request_id').notNullable().references('change_request.id').onDelete('CASCADE').index();
      // Place in the line for the item; the first one holds it.
      t.specificType('place', 'bigint generated always as identity');
      t.primary(['onto_path', 'item', 'request_id']);
    })
    .createTable('delivery_window', (t) => {
      t.text('site').notNullable().references('site.name').onDelete('CASCADE');
      t.integer('position').notNullable();
      t.jsonb('days').notNullable();
      t.text('from').notNullable();
      t.text('until').notNullable();
      t.primary(['site', 'position']);
    })
    .createTable('freeze', (t) => {
      t.text('id').primary();
      t.text('reason').notNullable();
      t.text('scope').notNullable();
      t.jsonb('time').notNullable();
      t.text('person_id').notNullable().references('person.id');
      t.timestamp('created_at').notNullable();
    });
  await knex.schema.alterTable('forecast', (t) => {
    t.text('request');
    t.text('request_by');
  });
  await knex.schema.alterTable('transfer', (t) => {
    t.text('request');
    t.text('urgent');
    t.text('override');
  });
}
