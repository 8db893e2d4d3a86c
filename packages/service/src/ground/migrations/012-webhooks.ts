import type { Knex } from 'knex';

/** Other programs that are told what happens, and what they were told. */
export async function addWebhooks(knex: Knex): Promise<void> {
  await knex.schema
    .createTable('webhook', (t) => {
      t.text('id').primary();
      t.text('url').notNullable();
      // Encrypted: it signs what is sent.
      t.text('secret').notNullable();
      t.jsonb('types').notNullable();
      t.text('scope').notNullable();
      t.boolean('allows_private').notNullable();
      t.timestamp('created_at').notNullable();
    })
    .createTable('webhook_delivery', (t) => {
      t.text('id').primary();
      t.text('webhook_id').notNullable().references('webhook.id').onDelete('CASCADE');
      t.text('type').notNullable();
      t.text('subject').notNullable();
      t.text('body').notNullable();
      t.timestamp('at').notNullable();
      t.timestamp('due_at');
      t.timestamp('delivered_at');
      t.integer('tries').notNullable().defaultTo(0);
      t.integer('status');
      t.text('problem');
      t.index(['webhook_id', 'at', 'id']);
    });
  await knex.raw('CREATE INDEX webhook_due ON webhook_delivery (due_at) WHERE due_at IS NOT NULL');
}
