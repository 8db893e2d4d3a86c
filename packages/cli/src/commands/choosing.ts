import type { ForecastWishes } from '@tessarion/contract';
import { type Command, Option } from 'commander';
import { CliError } from '../errors.js';

export const ONLY =
  'move only these: KIND:KEY, KIND:*, table:NAME, area:NAME, path:PATTERN, part:data, by:PERSON, since:TIME';

/** What was chosen and settled on the command line. */
export interface Choice {
  readonly only?: string[];
  readonly except?: string[];
  readonly take?: string[];
  readonly keep?: string[];
  readonly edit?: string[];
  readonly rest?: 'source' | 'destination';
  readonly run?: string[];
}

/** The options by which somebody chooses what moves and settles what collides. */
export const choosing = (command: Command): Command =>
  command
    .option('--only <NAME...>', ONLY)
    .option('--except <NAME...>', 'move everything but these')
    .option('--take <ID...>', 'settle: the source’s counts, in an item or in one collision')
    .option('--keep <ID...>', 'settle: the destination’s stays')
    .option('--edit <ID=VALUE...>', 'settle: this value counts')
    .addOption(new Option('--rest <SIDE>', 'settle all others').choices(['source', 'destination']))
    .option('--run <TASK...>', 'run these tasks too, which change the schema');

/** The wishes that the options say. @throws {CliError} usage */
export function wishesOf(options: Choice): Partial<ForecastWishes> {
  const settlements: ForecastWishes['settlements'] = {};
  for (const id of options.take ?? []) settlements[id] = { take: 'source' };
  for (const id of options.keep ?? []) settlements[id] = { take: 'destination' };
  for (const text of options.edit ?? []) {
    const at = text.indexOf('=');
    if (at < 1)
      throw new CliError(
        2,
        `"${text}" is no edited value.`,
        'It names a collision and its value.',
        'Write --edit page:7/title=VALUE.',
      );
    settlements[text.slice(0, at)] = { take: 'edited', value: text.slice(at + 1) };
  }
  return {
    only: options.only ?? [],
    except: options.except ?? [],
    settlements,
    rest: options.rest ?? null,
    ...(options.run === undefined ? {} : { tasks: options.run }),
  };
}
