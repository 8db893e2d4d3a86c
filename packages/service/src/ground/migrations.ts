import type { Knex } from 'knex';
import { addAccess } from './migrations/008-access.js';
import { addJournal } from './migrations/009-journal.js';
import { addRequests } from './migrations/010-requests.js';
import { addNotices } from './migrations/011-notices.js';
import { addWebhooks } from './migrations/012-webhooks.js';
import { addPreviews } from './migrations/013-previews.js';
import { addGuests } from './migrations/014-guests.js';
import { addLetters } from './migrations/015-letters.js';
import { addSecondFactors } from './migrations/016-second-factors.js';
import { addUndoRequests } from './migrations/017-undo-requests.js';
import { addClaimTimes } from './migrations/018-claims.js';
import { addTransferItems } from './migrations/019-transfer-items.js';
import { addTraffic } from './migrations/020-traffic.js';
import { addDigests } from './migrations/021-digests.js';
import { addFollows } from './migrations/022-follows.js';
import { addTags } from './migrations/023-tags.js';
import { addWantedTimes } from './migrations/024-wanted-times.js';
import { addDoers } from './migrations/025-doers.js';
import { addGuestNotices } from './migrations/026-guest-notices.js';
import { addLooks } from './migrations/027-looks.js';
import { sealAnswers } from './migrations/028-answers.js';
import { addSealedFields } from './migrations/029-forecast-items.js';
import { addForeignOrigins } from './migrations/030-foreign-origins.js';
import { addForecastTries } from './migrations/031-forecast-tries.js';
import { addTransferNotices } from './migrations/032-transfer-notices.js';
import { addFormerTitles } from './migrations/033-former-titles.js';
import { addFigures } from './migrations/034-figures.js';
import { indexTransfers } from './migrations/035-transfers-of-site.js';
import { addForecastKeepers } from './migrations/036-forecast-keepers.js';
import { addSshServers } from './migrations/037-ssh-servers.js';

/** The records' schema, step by step; only ever appended to. */
const MIGRATIONS: Record<string, (knex: Knex) => Promise<void>> = {
  '001_first': async (knex) => {
    await knex.schema
      .createTable('installation', (t) => {
        t.text('name').primary();
        t.text('value').notNullable();
      })
      .createTable('person', (t) => {
        t.text('id').primary();
        t.text('name').notNullable();
        t.text('mail').notNullable().unique();
        t.text('password_hash').notNullable();
        t.timestamp('created_at').notNullable();
      })
      .createTable('session', (t) => {
        t.text('hash').primary();
        t.text('person_id').notNullable().references('person.id').onDelete('CASCADE');
        t.timestamp('created_at').notNullable();
        t.timestamp('expires_at').notNullable();
      })
      .createTable('token', (t) => {
        t.text('id').primary();
        t.text('person_id').notNullable().references('person.id').onDelete('CASCADE');
        t.text('name').notNullable();
        t.text('hash').notNullable().unique();
        t.timestamp('created_at').notNullable();
        t.timestamp('expires_at');
        t.timestamp('last_used_at');
      })
      .createTable('server', (t) => {
        t.text('name').primary();
        t.text('machine').notNullable();
        t.text('folder').notNullable();
        t.text('base_domain').notNullable();
        t.jsonb('web_host').notNullable();
        t.jsonb('database').notNullable();
        t.text('database_password').notNullable();
      })
      .createTable('profile', (t) => {
        t.text('name').notNullable();
        t.integer('version').notNullable();
        t.text('title').notNullable();
        t.text('text').notNullable();
        t.timestamp('created_at').notNullable();
        t.text('person').notNullable();
        t.primary(['name', 'version']);
      })
      .createTable('site', (t) => {
        t.text('name').primary();
        t.text('client').notNullable();
        t.text('time_zone').notNullable();
        t.text('profile');
        t.text('server').notNullable().references('server.name');
        t.timestamp('created_at').notNullable();
        t.specificType('position', 'bigint generated always as identity');
      })
      .createTable('environment', (t) => {
        t.text('path').primary();
        t.text('site').notNullable().references('site.name');
        t.text('name').notNullable();
        t.text('kind').notNullable();
        t.text('status').notNullable();
        t.text('server').notNullable().references('server.name');
        t.text('folder').notNullable();
        t.jsonb('addresses').notNullable();
        t.jsonb('roots').notNullable();
        t.text('databases').notNullable();
        t.text('settings').notNullable();
        t.text('gate');
        t.text('made_from');
        t.timestamp('made_at').notNullable();
        t.timestamp('refreshed_at');
        t.jsonb('size');
        t.jsonb('drift');
        t.integer('epoch').notNullable().defaultTo(0);
      })
      .createTable('baseline', (t) => {
        t.text('lower').notNullable();
        t.text('upper').notNullable();
        t.text('lower_manifest').notNullable();
        t.text('upper_manifest').notNullable();
        t.jsonb('left_out').notNullable();
        t.timestamp('created_at').notNullable();
        t.primary(['lower', 'upper']);
      })
      .createTable('transfer', (t) => {
        t.text('id').primary();
        t.text('kind').notNullable();
        t.text('state').notNullable().index();
        t.text('from_path');
        t.text('onto_path').notNullable().index();
        t.text('site').notNullable().index();
        t.jsonb('sentence').notNullable();
        t.text('person').notNullable();
        t.timestamp('created_at').notNullable().index();
        t.timestamp('started_at');
        t.timestamp('ended_at');
        t.jsonb('progress');
        t.jsonb('failure');
        t.text('undo_of');
        t.text('undone_by');
        t.boolean('acknowledged').notNullable().defaultTo(false);
        t.boolean('stop_asked').notNullable().defaultTo(false);
        t.text('input').notNullable();
        t.text('data').notNullable();
        t.jsonb('checks').notNullable().defaultTo('[]');
        t.jsonb('warnings').notNullable().defaultTo('[]');
        t.jsonb('written').notNullable().defaultTo('[]');
        t.jsonb('items').notNullable().defaultTo('[]');
        t.jsonb('remains').notNullable().defaultTo('[]');
        t.jsonb('totals').notNullable().defaultTo('{"files":0,"rows":0,"bytes":0}');
        t.text('forecast');
        t.text('worker');
      })
      .createTable('transfer_step', (t) => {
        t.text('transfer_id').notNullable().references('transfer.id').onDelete('CASCADE');
        t.integer('position').notNullable();
        t.text('name').notNullable();
        t.text('title').notNullable();
        t.text('state').notNullable();
        t.timestamp('started_at');
        t.timestamp('ended_at');
        t.text('detail');
        t.primary(['transfer_id', 'position']);
      })
      .createTable('transfer_log', (t) => {
        t.specificType('id', 'bigint generated always as identity primary key');
        t.text('transfer_id').notNullable().references('transfer.id').onDelete('CASCADE').index();
        t.timestamp('at').notNullable();
        t.text('text').notNullable();
      })
      .createTable('forecast', (t) => {
        t.text('id').primary();
        t.text('state').notNullable();
        t.text('from_path').notNullable();
        t.text('onto_path').notNullable();
        t.text('snapshot');
        t.text('person').notNullable();
        t.timestamp('created_at').notNullable();
        t.jsonb('failure');
        t.jsonb('result');
      })
      .createTable('forecast_item', (t) => {
        t.text('forecast_id').notNullable().references('forecast.id').onDelete('CASCADE');
        t.integer('position').notNullable();
        t.jsonb('item').notNullable();
        t.primary(['forecast_id', 'position']);
      })
      .createTable('snapshot', (t) => {
        t.text('id').primary();
        t.text('site').notNullable().index();
        t.text('environment').notNullable();
        t.text('kind').notNullable();
        t.timestamp('taken_at').notNullable();
        t.text('reason').notNullable();
        t.bigInteger('files').notNullable();
        t.bigInteger('rows').notNullable();
        t.bigInteger('bytes').notNullable();
        t.bigInteger('added_bytes').notNullable();
        t.timestamp('verified_at');
        t.jsonb('damage').notNullable().defaultTo('[]');
      })
      .createTable('event', (t) => {
        t.specificType('id', 'bigint generated always as identity primary key');
        t.timestamp('at').notNullable();
        t.jsonb('data').notNullable();
      })
      .createTable('idempotency', (t) => {
        t.text('key').notNullable();
        t.text('person').notNullable();
        t.text('request').notNullable();
        t.integer('status').notNullable();
        t.text('response').notNullable();
        t.timestamp('created_at').notNullable();
        t.primary(['key', 'person']);
      })
      .createTable('worker', (t) => {
        t.specificType('id', 'integer generated always as identity primary key');
        t.text('name').notNullable();
        t.text('machine').notNullable();
        t.timestamp('started_at').notNullable();
      });
  },
  '002_baseline_spool': async (knex) => {
    await knex.schema.alterTable('baseline', (t) => {
      t.setNullable('lower_manifest');
      t.setNullable('upper_manifest');
      t.jsonb('spool');
    });
  },
  '003_rounds': async (knex) => {
    await knex.schema.alterTable('environment', (t) => {
      t.jsonb('unreached');
      t.timestamp('looked_at');
    });
  },
  '004_merge': async (knex) => {
    await knex.schema.alterTable('baseline', (t) => {
      t.boolean('derived').notNullable().defaultTo(false);
    });
    await knex.schema.alterTable('forecast', (t) => {
      t.text('method').notNullable().defaultTo('merge');
      t.jsonb('wishes').notNullable().defaultTo('{"only":[],"except":[],"settlements":{},"rest":null}');
    });
  },
  '005_proof': async (knex) => {
    await knex.schema.alterTable('transfer', (t) => {
      t.jsonb('proof').notNullable().defaultTo('[]');
    });
  },
  '006_undo_forecast': async (knex) => {
    await knex.schema.alterTable('forecast', (t) => {
      t.text('undoes');
    });
  },
  '007_variants': async (knex) => {
    await knex.schema.alterTable('environment', (t) => {
      t.text('description');
      t.jsonb('schedule');
    });
  },
  '008_access': addAccess,
  '009_journal': addJournal,
  '010_requests': addRequests,
  '011_notices': addNotices,
  '012_webhooks': addWebhooks,
  '013_previews': addPreviews,
  '014_guests': addGuests,
  '015_letters': addLetters,
  '016_second_factors': addSecondFactors,
  '017_undo_requests': addUndoRequests,
  '018_claims': addClaimTimes,
  '019_transfer_items': addTransferItems,
  '020_traffic': addTraffic,
  '021_digests': addDigests,
  '022_follows': addFollows,
  '023_tags': addTags,
  '024_wanted_times': addWantedTimes,
  '025_doers': addDoers,
  '026_guest_notices': addGuestNotices,
  '027_looks': addLooks,
  '028_answers': sealAnswers,
  '029_forecast_items': addSealedFields,
  '030_foreign_origins': addForeignOrigins,
  '031_forecast_tries': addForecastTries,
  '032_transfer_notices': addTransferNotices,
  '033_former_titles': addFormerTitles,
  '034_figures': addFigures,
  '035_transfers_of_site': indexTransfers,
  '036_forecast_keepers': addForecastKeepers,
  '037_ssh_servers': addSshServers,
};

/**
 * Brings the records' schema up to date.
 *
 * @param last the step to end with; the newest, when it is left out
 */
export async function migrate(knex: Knex, last?: keyof typeof MIGRATIONS): Promise<void> {
  const names = Object.keys(MIGRATIONS);
  await knex.migrate.latest({
    migrationSource: {
      getMigrations: async () => (last === undefined ? names : names.slice(0, names.indexOf(last) + 1)),
      getMigrationName: (name: string) => name,
      getMigration: async (name: string) => ({
        up: MIGRATIONS[name] as (knex: Knex) => Promise<void>,
        down: async () => undefined,
      }),
    },
  });
}
