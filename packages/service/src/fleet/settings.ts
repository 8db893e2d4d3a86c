import { randomBytes } from 'node:crypto';
import { type Address, formatLocation, type Profile, type RootPath, type SettingRule } from '@tessarion/core';
import { databaseSystem } from '@tessarion/engine';
import type { DatabaseRecord } from './environments.js';

/** Facts of an environment that settings may be taken from. */
export interface SettingFacts {
  readonly kind: 'dev' | 'staging' | 'live';
  readonly addresses: readonly Address[];
  readonly roots: readonly RootPath[];
  readonly databases: readonly DatabaseRecord[];
}

/** The settings of an environment, and what somebody should know about them. */
export interface ResolvedSettings {
  readonly values: Record<string, string>;
  readonly warnings: string[];
}

/**
 * Works out the settings of a new copy: by kind, by the copy's own facts, or made anew. A value that belongs to its
 * source alone is left empty, with a warning that names it.
 */
export function resolveSettings(
  profile: Profile | undefined,
  facts: SettingFacts,
  own: Readonly<Record<string, string>> = {},
): ResolvedSettings {
  const values: Record<string, string> = {};
  const warnings: string[] = [];
  for (const setting of profile?.settings ?? []) {
    values[setting.name] = own[setting.name] ?? resolve(setting, facts);
    if (setting['bound-to-address'] && values[setting.name] === '') {
      warnings.push(
        `"${setting.title ?? setting.name}" is bound to live's address, and empty here: write the copy's own into ${'file' in setting.in ? `${setting.in.file}, where it stays` : `table ${setting.in.table}`}.`,
      );
    }
  }
  return { values, warnings };
}

function resolve(setting: SettingRule, facts: SettingFacts): string {
  if (setting.values) return setting.values[facts.kind];
  const from = setting.from;
  if (!from || 'own' in from) return '';
  if ('generate' in from) return randomBytes(24).toString('base64url');
  if ('address' in from) {
    const address = facts.addresses.find((one) => one.name === from.address);
    return address ? (from.as === 'host' ? address.host : formatLocation(address)) : '';
  }
  if ('root' in from) return facts.roots.find((root) => root.name === from.root)?.path ?? '';
  const database = facts.databases.find((one) => one.name === from.database);
  if (!database) return '';
  switch (from.part) {
    case 'url': {
      const { name: _called, system, ...login } = database;
      return databaseSystem(system).urlOf(login);
    }
    case 'host':
      return database.host;
    case 'port':
      return String(database.port);
    case 'name':
      return database.database;
    case 'user':
      return database.user;
    case 'password':
      return database.password;
  }
}
