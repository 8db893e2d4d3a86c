import type { Knex } from 'knex';

/** Notices about guests, beside those about requests; and when somebody has the daily mail. */
export async function addGuestNotices(knex: Knex): Promise<void> {
  await knex.schema
    .alterTable('notice', (t) => {
      t.setNullable('request_id');
      t.text('guest_id').references('guest_link.id').onDelete('CASCADE');
      // What a guest spoke of.
      t.text('environment');
      t.check('(request_id IS NULL) <> (guest_id IS NULL)', {}, 'notice_is_about_one');
    })
    .alterTable('person', (t) => {
      t.text('digest_at').notNullable().defaultTo('06:00');
      t.text('digest_zone').notNullable().defaultTo('UTC');
    });
  await knex.raw(
    `CREATE VIEW told_notice AS
     SELECT n.*, coalesce(r.site, g.site) AS site, coalesce(r.onto_path, n.environment) AS onto_path,
       coalesce(r.title, g.name) AS title, r.state, b.name AS by_name
     FROM notice n LEFT JOIN change_request r ON r.id = n.request_id LEFT JOIN guest_link g ON g.id = n.guest_id
     LEFT JOIN person b ON b.id = n.by`,
  );
}
