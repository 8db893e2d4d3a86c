import type { Knex } from 'knex';

/** How a server's machine is logged in to, where it is not the one that Tessarion runs on; the login's key is encrypted. */
export async function addSshServers(knex: Knex): Promise<void> {
  await knex.schema.alterTable('server', (t) => {
    t.jsonb('ssh');
    t.text('ssh_key');
  });
}
