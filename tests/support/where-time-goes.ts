import { existsSync, readFileSync, rmSync } from 'node:fs';
import type { Reporter, TestModule } from 'vitest/node';

const SLOWEST = 10;

interface Line {
  readonly what: string;
  readonly milliseconds: number;
}

/** An attack that was tried, by what was attacked. */
interface Attack {
  readonly tried: string;
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
    const attacks = new Map<string, number>();
    for (const line of takenDown())
      if ('tried' in line) attacks.set(line.tried, (attacks.get(line.tried) ?? 0) + 1);
      else spent.set(line.what, (spent.get(line.what) ?? 0) + line.milliseconds);
    spent.set('reading modules', sum(files.map((one) => one.collectDuration)));
    spent.set('testing', all - sum([...spent.values()]));
    const shares = [...spent].map(([what, time]) => `${what} ${Math.round((time / all) * 100)} %`);
    process.stdout.write(
      [
        'The slowest files:',
        ...files.slice(0, SLOWEST).map(({ name, duration }) => `${seconds(duration).padStart(9)}  ${name}`),
        `Of ${seconds(all)} in all workers: ${shares.join(', ')}.`,
        ...(attacks.size === 0
          ? []
          : [`Attacks tried: ${sum([...attacks.values()])} (${[...attacks].map((one) => one.join(' ')).join(', ')}).`]),
        '',
      ].join('\n'),
    );
  }
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
