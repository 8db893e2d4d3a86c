import { existsSync, readFileSync, rmSync } from 'node:fs';
import type { Reporter, TestModule } from 'vitest/node';
import { CHAPTERS } from '../attacks/chapters.js';

const SLOWEST = 10;

interface Line {
  readonly what: string;
  readonly milliseconds: number;
}

/** An attack that was tried, by what was attacked, and the test that tried it. */
interface Attack {
  readonly tried: string;
  readonly test: string;
}

/** Says at the end of a run which files took longest, and what the time of all of them went to. */
export default class WhereTimeGoes implements Reporter {
  onTestRunEnd(modules: readonly TestModule[]): void {
    const files = modules
      .map((module) => ({ name: module.relativeModuleId, ...module.diagnostic() }))
      .sort((a, b) => b.duration - a.duration);
    const all = sum(files.map((one) => one.duration + one.collectDuration));
    if (all === 0) return;
    const spent = new Map<string, number>();
    const attacks: Attack[] = [];
    for (const line of takenDown())
      if ('tried' in line) attacks.push(line);
      else spent.set(line.what, (spent.get(line.what) ?? 0) + line.milliseconds);
    spent.set('reading modules', sum(files.map((one) => one.collectDuration)));
    spent.set('testing', all - sum([...spent.values()]));
    const shares = [...spent].map(([what, time]) => `${what} ${Math.round((time / all) * 100)} %`);
    process.stdout.write(
      [
        'The slowest files:',
        ...files.slice(0, SLOWEST).map(({ name, duration }) => `${seconds(duration).padStart(9)}  ${name}`),
        `Of ${seconds(all)} in all workers: ${shares.join(', ')}.`,
        ...byChapter(attacks, failedIn(modules)),
        '',
      ].join('\n'),
    );
  }
}

/** Tests that failed, as {@link Attack} names them. */
const failedIn = (modules: readonly TestModule[]): Set<string> =>
  new Set(
    modules.flatMap((module) =>
      [...module.children.allTests('failed')].map((test) => `${module.moduleId} ${test.fullName}`),
    ),
  );

/** How many attacks of each chapter were tried and held: where a test fails, its last one has broken something. */
function byChapter(attacks: readonly Attack[], failed: ReadonlySet<string>): string[] {
  if (attacks.length === 0) return [];
  const unknown = attacks.filter((one) => !Object.values(CHAPTERS).flat().includes(one.tried));
  if (unknown.length > 0) throw new Error(`No chapter holds attacks on ${unknown[0]?.tried}.`);
  const lines = Object.entries(CHAPTERS).flatMap(([chapter, holds]) => {
    const all = attacks.filter((one) => holds.includes(one.tried));
    const broken = new Set(all.map((one) => one.test).filter((test) => failed.has(test))).size;
    return all.length === 0
      ? []
      : [`${String(all.length).padStart(9)} tried, ${all.length - broken} held  ${chapter} (${holds.join(', ')})`];
  });
  return [`Attacks, ${attacks.length} in all:`, ...lines];
}

/** What {@link during} took down, and attacks. */
function takenDown(): (Line | Attack)[] {
  const file = process.env.TESSARION_TEST_TIMES ?? '';
  if (!existsSync(file)) return [];
  const lines = readFileSync(file, 'utf8').trimEnd().split('\n');
  rmSync(file);
  return lines.map((line) => JSON.parse(line));
}

const sum = (values: readonly number[]): number => values.reduce((total, one) => total + one, 0);
const seconds = (milliseconds: number): string => `${(milliseconds / 1000).toFixed(1)} s`;
