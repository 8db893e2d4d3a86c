import type { Knex } from 'knex';

/** Notices about transfers and schedules, beside those about requests and guests. */
export async function addTransferNotices(knex: Knex): Promise<void> {
  await knex.raw('DROP VIEW told_notice');
  await knex.raw('ALTER TABLE notice DROP CONSTRAINT notice_is_about_one');
  await knex.schema.alterTable('notice', (t) => {
    t.text('transfer_id').references('transfer.id').onDelete('CASCADE');
    t.check(
      'num_nonnulls(request_id, guest_id, transfer_id) = (CASE WHEN guest_id IS NULL AND environment IS NOT NULL THEN 0 ELSE 1 END)',
      {},
      'notice_is_about_one',
    );
  });
  await knex.raw(
    `CREATE VIEW told_notice AS
     SELECT n.*, coalesce(r.site, g.site, t.site, split_part(n.environment, '/', 1)) AS site, coalesce(r.onto_path, n.environment, t.onto_path) AS onto_path,
       coalesce(r.title, g.name, initcap(t.kind) || coalesce(' from ' || t.from_path, ' of ' || t.onto_path), 'Scheduled pull') AS title,
       coalesce(r.state, t.state) AS state, b.name AS by_name
     FROM notice n LEFT JOIN change_request r ON r.id = n.request_id LEFT JOIN guest_link g ON g.id = n.guest_id
     LEFT JOIN transfer t ON t.id = n.transfer_id LEFT JOIN person b ON b.id = n.by`,
  );
}
