import type { DeliveryPlan, DeliveryWindow, LaneRule } from '@tessarion/contract';
import { asksForApproval, momentWords, wantedBy } from '@tessarion/core';
import { type Command, Option } from 'commander';
import { CliError } from '../errors.js';
import { cut, print, printJson, printTable, when } from '../output.js';
import { connect, wantsJson } from '../program.js';
import { readTime } from './deliver.js';
import { examples, json, wholeNumber } from './options.js';

const DAYS = ['mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun'];

/** Commands on lanes, windows and freezes: what is asked of a delivery, and when it may go. */
export function addPlans(program: Command): void {
  addLanes(program);
  const window = program.command('window').description('when delivering onto live is allowed');
  examples(
    json(
      window
        .command('show')
        .argument('<site>')
        .description('show windows, freezes and what is scheduled')
        .option('--at <TIME>', 'say whether one may deliver then, such as 2026-12-01T22:30:00Z'),
    ),
    'tessarion window show threadmill',
    'tessarion window show threadmill --at 2026-12-01T22:30:00Z',
  ).action(async (site: string, options: { at?: string }, command: Command) => {
    const at = options.at === undefined ? undefined : readTime(options.at);
    const plan = await (await connect(command)).call('deliveryPlan', {
      params: { site },
      ...(at === undefined ? {} : { query: { at } }),
    });
    if (wantsJson(command)) printJson(plan);
    else printPlan(plan, at);
  });
  examples(
    json(
      window
        .command('set')
        .argument('<site>')
        .argument('[window...]', 'such as mon-fri,22:00-02:00; in the time zone of the site')
        .description('say when one may deliver; without any window it is allowed at all times')
        .option('--none', 'remove the windows: one may deliver at all times'),
    ),
    'tessarion window set threadmill mon-thu,22:00-02:00 sun,06:00-09:00',
    'tessarion window set threadmill sat,01:00-05:00 --json',
  ).action(async (site: string, windows: string[], options: { none?: boolean }, command: Command) => {
    if ((windows.length === 0) !== (options.none === true))
      throw new CliError(
        2,
        'Name windows, or --none.',
        windows.length === 0 ? 'Without any window one may deliver at all times.' : 'Both were given.',
        `See what there is: tessarion window show ${site}`,
      );
    const body = { windows: windows.map(readWindow) };
    const client = await connect(command);
    const { etag } = await client.call('deliveryPlan', { params: { site } });
    const plan = await client.call('windowSet', { params: { site }, body, etag });
    if (wantsJson(command)) printJson(plan);
    else printPlan(plan);
  });

  examples(
    json(window.command('quiet').argument('<site>').description('propose a window from when few visitors come')),
    'tessarion window quiet threadmill',
    'tessarion window quiet threadmill --json',
  ).action(async (site: string, _options: unknown, command: Command) => {
    const quiet = await (await connect(command)).call('quietHours', { params: { site } });
    if (wantsJson(command)) return printJson(quiet);
    const { since, proposal } = quiet;
    if (since === null) return print('Nobody has come through the gateway yet.');
    if (!proposal)
      return print(`Counted since ${when(since)}: not a whole week yet, or no hours are quieter than others.`);
    const { days, from, until } = proposal.window;
    print(
      `Quiet: ${from} to ${until} on ${days.map((day) => DAYS[day - 1]).join(', ')}; ${proposal.quiet} requests an hour, where ${proposal.usual} are usual.`,
    );
  });

  const freeze = program.command('freeze').description('when delivering onto live is forbidden');
  examples(
    json(freeze.command('list').description('list the freezes')),
    'tessarion freeze list',
    'tessarion freeze list --json',
  ).action(async (_options: unknown, command: Command) => {
    const freezes = await (await connect(command)).call('freezeList');
    if (wantsJson(command)) return printJson(freezes);
    if (freezes.length === 0) return print('No freezes.');
    printTable(
      ['id', 'for', 'from', 'until', '', 'reason', 'by'],
      freezes.map((one) => [
        one.id,
        cut(one.scope, 24),
        one.time.from,
        one.time.until,
        one.time.repeats === 'yearly' ? 'each year' : 'once',
        one.reason,
        one.person,
      ]),
      [],
      5,
    );
  });
  examples(
    json(
      freeze
        .command('add')
        .description('forbid delivering for a time')
        .requiredOption('--reason <TEXT>')
        .requiredOption('--for <SCOPE>', 'a site, client:NAME, tag:NAME, or everything')
        .requiredOption('--from <TIME>', '2026-12-20T18:00, or 12-20 for each year')
        .requiredOption('--until <TIME>', '2027-01-02T06:00, or 01-02 for each year'),
    ),
    'tessarion freeze add --for threadmill --from 2026-12-20T18:00 --until 2027-01-02T06:00 --reason "Christmas trade"',
    'tessarion freeze add --for everything --from 12-24 --until 12-26 --reason "Nobody is here"',
  ).action(async (options: { reason: string; for: string; from: string; until: string }, command: Command) => {
    const repeats = /^\d\d-\d\d$/.test(options.from) ? 'yearly' : 'never';
    const made = await (await connect(command)).call('freezeAdd', {
      body: {
        reason: options.reason,
        scope: options.for,
        time: { repeats, from: options.from, until: options.until },
      },
    });
    if (wantsJson(command)) printJson(made);
    else
      print(
        `${made.id}: ${made.scope} is frozen from ${spaced(made.time.from)} until ${spaced(made.time.until)}, each site in its own time zone.`,
      );
  });
  examples(
    freeze.command('lift').argument('<id>').description('lift a freeze'),
    'tessarion freeze lift z-8k2m4q9x1c',
    'tessarion freeze lift z-8k2m4q9x1c --url http://127.0.0.1:7070',
  ).action(async (id: string, _options: unknown, command: Command) => {
    await (await connect(command)).call('freezeRemove', { params: { id } });
    print(`${id} is lifted.`);
  });
}

function addLanes(program: Command): void {
  const lane = program.command('lane').description('what a lane asks for before anything goes over it');
  examples(
    json(lane.command('show').argument('<site>').description('show what the lanes of a site ask for')),
    'tessarion lane show threadmill',
    'tessarion lane show threadmill --json',
  ).action(async (site: string, _options: unknown, command: Command) => {
    const lanes = await (await connect(command)).call('laneList', { params: { site } });
    if (wantsJson(command)) return printJson(lanes);
    for (const one of lanes) print(`Onto ${one.onto}: ${asksForApproval(one) ? ruleWords(one) : 'a plain push goes'}`);
  });
  examples(
    json(
      lane
        .command('rule')
        .argument('<site>')
        .description('say what must be there before anything goes onto live, or onto staging')
        .addOption(new Option('--onto <KIND>').choices(['live', 'staging']).default('live'))
        .option('--approvals <N>', 'how many must approve; 0 lets a plain push go', wholeNumber)
        .option('--team <NAME...>', 'somebody of each of these must approve')
        .option('--no-team', 'no team must')
        .option('--guests <N>', 'how many guests must say yes, beside them', wholeNumber)
        .option('--threads-block', 'open threads keep it from going')
        .option('--no-threads-block', 'open threads do not matter'),
    ),
    'tessarion lane rule threadmill --approvals 1',
    'tessarion lane rule threadmill --onto live --approvals 2 --team legal --threads-block',
  ).action(
    async (
      site: string,
      options: {
        onto: 'live' | 'staging';
        approvals?: number;
        team?: string[] | false;
        guests?: number;
        threadsBlock?: boolean;
      },
      command: Command,
    ) => {
      const client = await connect(command);
      const former = (await client.call('laneList', { params: { site } })).find((one) => one.onto === options.onto);
      const { approvals, team, guests, threadsBlock } = options;
      if ([approvals, team, guests, threadsBlock].every((one) => one === undefined))
        throw new CliError(
          2,
          'Nothing was said of the lane.',
          'A rule says --approvals, --team, --guests or --threads-block; what is not named stays.',
          `See what there is: tessarion lane show ${site}`,
        );
      const rule = await client.call('laneRule', {
        etag: former?.etag ?? null,
        params: { site, onto: options.onto },
        body: {
          approvals: approvals ?? former?.approvals ?? 0,
          teams: team === false ? [] : (team ?? former?.teams ?? []),
          threadsBlock: threadsBlock ?? former?.threadsBlock ?? false,
          guests: guests ?? former?.guests ?? 0,
        },
      });
      if (wantsJson(command)) printJson(rule);
      else print(`What goes onto ${rule.onto} of ${site} needs ${ruleWords(rule)}.`);
    },
  );
}

function ruleWords(rule: LaneRule): string {
  const wanted = wantedBy(rule).join(', ') || 'no approval';
  return rule.threadsBlock ? `${wanted}, and no open thread` : wanted;
}

/** Reads `mon-fri,22:00-02:00`. @throws {CliError} usage */
function readWindow(text: string): DeliveryWindow {
  const match = /^([a-z]{3})(?:-([a-z]{3}))?,(\d\d:\d\d)-(\d\d:\d\d)$/.exec(text.toLowerCase());
  const [first, last] = [DAYS.indexOf(match?.[1] ?? ''), DAYS.indexOf(match?.[2] ?? match?.[1] ?? '')];
  if (!match || first < 0 || last < 0)
    throw new CliError(
      2,
      `"${text}" is no window.`,
      'A window is days and two times of day.',
      'Write mon-fri,22:00-02:00 or sun,06:00-09:00.',
    );
  const days: number[] = [];
  for (let day = first; ; day = (day + 1) % 7) {
    days.push(day + 1);
    if (day === last) break;
  }
  return { days, from: match[3] as string, until: match[4] as string };
}

/** A local time as people write it: `2026-12-20 18:00`. */
const spaced = (time: string): string => time.replace('T', ' ');

/** Days as people write them: runs of three and more as from – to. */
const daysText = (days: readonly number[]): string => {
  const runs: number[][] = [];
  for (const day of [...days].sort()) {
    const run = runs.at(-1);
    if (run && run.at(-1) === day - 1) run.push(day);
    else runs.push([day]);
  }
  return runs
    .flatMap((run) => {
      const names = run.map((day) => DAYS[day - 1] as string);
      return names.length > 2 ? [`${names[0]}-${names.at(-1)}`] : names;
    })
    .join(', ');
};

function printPlan(plan: DeliveryPlan, at?: string): void {
  print(`${plan.site}/live ${at === undefined ? 'now' : when(at)}: ${momentWords(plan.moment, when)}`);
  if (plan.windows.length === 0) print('There are no windows: it is allowed at all times but in freezes.');
  else
    printTable(
      ['days', 'from', 'until'],
      plan.windows.map((one) => [daysText(one.days), one.from, `${one.until} ${plan.timeZone}`]),
    );
  for (const one of plan.freezes)
    print(
      `Frozen ${one.time.repeats === 'yearly' ? 'each year ' : ''}from ${spaced(one.time.from)} until ${spaced(one.time.until)} ${plan.timeZone}: ${one.reason} (${one.id})`,
    );
  for (const one of plan.deliveries) print(`${when(one.at)}  ${one.title} (${one.request})`);
}
