import {
  type AreaRule,
  type ByteString,
  type EnvironmentKind,
  meansTable,
  type Place,
  type Profile,
  Rewriter,
  type SettingRule,
  type TableName,
  toBytes,
} from '@tessarion/core';
import type { SiteDatabase } from '../ports/database.js';
import type { ServerConnection } from '../ports/server.js';

/** An environment as the engine meets it: where it lies and how to reach its parts. */
export interface Environment {
  /** `site/name`. */
  readonly path: string;
  readonly site: string;
  readonly name: string;
  readonly kind: EnvironmentKind;
  readonly server: ServerConnection;
  /** Absolute folder that holds everything of this environment. */
  readonly folder: ByteString;
  readonly place: Place;
  readonly databases: readonly SiteDatabase[];
  readonly profile: Profile | undefined;
  /** Values of the profile's settings in this environment. */
  readonly settings: ReadonlyMap<string, string>;
}

/** Writes rows and files with the destination's addresses, paths and settings. */
export const rewriterOf = (destination: Environment): Rewriter =>
  new Rewriter(destination.place, new Map([...destination.settings].map(([name, value]) => [name, toBytes(value)])));

/** Where the parts of an environment lie below its folder (docs/architecture.md, Layout on a server). */
export const layout = {
  rootLink: (folder: ByteString, root: string): ByteString => `${folder}/${root}`,
  trees: (folder: ByteString): ByteString => `${folder}/trees`,
  tree: (folder: ByteString, root: string, id: string): ByteString => `${folder}/trees/${root}-${id}`,
  keep: (folder: ByteString, root: string, area: string): ByteString => `${folder}/keep/${root}/${area}`,
  fence: (folder: ByteString): ByteString => `${folder}/.tessarion-fence`,
};

/** Collected and local areas lie beside the trees and are linked in, so that a switch leaves them alone. */
export function keptAreas(areas: readonly AreaRule[]): AreaRule[] {
  const kept = areas.filter(
    (area) => area.path !== '.' && (area.class === 'collected' || area.class === 'local' || area.class === 'derived'),
  );
  return kept.filter((area) => !kept.some((outer) => outer !== area && area.path.startsWith(`${outer.path}/`)));
}

/** What the link of a kept area inside a tree says. */
export function keepLinkTarget(root: string, area: AreaRule): ByteString {
  const up = area.path.split('/').length - 1 + 2;
  return `${'../'.repeat(up)}keep/${root}/${area.name}`;
}

/**
 * The folder beside the trees that a link inside a tree leads into; undefined for other links. It says so itself, since
 * the profile by which the tree was laid out may have been another one.
 */
export function keptFolder(folder: ByteString, root: string, target: ByteString | undefined): ByteString | undefined {
  const inside = /^(?:\.\.\/)+keep\/([^/]+)\/([^/]+)$/.exec(target ?? '');
  return inside?.[1] === root ? layout.keep(folder, root, inside[2] as string) : undefined;
}

const WHOLE_ROOT: readonly AreaRule[] = [{ name: 'all', path: '.', class: 'unclassified' }];

/** The areas of an environment; without a profile everything is one unclassified area. */
export const areasOf = (profile: Profile | undefined): readonly AreaRule[] => profile?.areas ?? WHOLE_ROOT;

/** The settings of a profile that stand in files. */
export const fileSettings = (
  profile: Profile | undefined,
): (SettingRule & { in: { file: string; format: 'env' | 'ini' | 'json' | 'yaml'; key: string } })[] =>
  (profile?.settings ?? []).filter(
    (setting): setting is ReturnType<typeof fileSettings>[number] => 'file' in setting.in,
  );

/** The settings of a profile that stand in rows of a table. */
export const rowSettings = (
  profile: Profile | undefined,
  table: TableName,
): (SettingRule & { in: { table: string; row: Record<string, string>; column: string } })[] =>
  (profile?.settings ?? []).filter(
    (setting): setting is ReturnType<typeof rowSettings>[number] =>
      'table' in setting.in && meansTable(setting.in.table, table),
  );
