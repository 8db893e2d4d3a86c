import { budgets } from './budgets.js';
import { consoleRooms } from './console.js';
import { underFire } from './fire.js';
import { forecastNoChange, mergeWide, pushThreeRows, resync } from './merge-workloads.js';
import { longRecord } from './record.js';
import { small } from './small.js';
import { start } from './start.js';
import { clone, type Figure, memory, pushUnderLoad, rewrite, snapshots } from './workloads.js';

const WORKLOADS: Readonly<Record<string, () => Promise<Figure | Figure[]>>> = {
  rewrite,
  clone,
  'snapshot-10': snapshots,
  memory,
  'resync-0.1%': resync,
  'forecast-nochange': forecastNoChange,
  'push-3-rows': pushThreeRows,
  'merge-wide': mergeWide,
  budget: budgets,
  'push-under-load': pushUnderLoad,
  'under-fire': underFire,
  'long-record': longRecord,
  start,
  small,
  console: consoleRooms,
};

const names = process.argv.slice(2).filter((one) => one !== '--json');
const asJson = process.argv.includes('--json');
const unknown = names.find((name) => !(name in WORKLOADS));
if (unknown !== undefined) {
  process.stderr.write(`There is no workload ${unknown}. There are: ${Object.keys(WORKLOADS).join(', ')}.\n`);
  process.exit(2);
}
const figures: Figure[] = [];
for (const [name, run] of Object.entries(WORKLOADS)) {
  if (names.length > 0 && !names.includes(name)) continue;
  const measured = [await run()].flat();
  figures.push(...measured);
  for (const figure of asJson ? [] : measured) {
    const cell = (value: number | null, unit: string): string => (value === null ? '–' : `${value}${unit}`);
    process.stdout.write(
      `${figure.name.padEnd(17)} ours ${cell(figure.ours_s, ' s').padEnd(10)} by hand ${cell(figure.reference_s, ' s').padEnd(10)} ratio ${cell(figure.ratio, '').padEnd(6)} peak ${cell(figure.peak_rss_mb, ' MB').padEnd(8)} goal ${figure.goal}\n${' '.repeat(18)}${figure.note}\n`,
    );
  }
}
if (asJson) process.stdout.write(`${JSON.stringify(figures, null, 2)}\n`);
process.exit(0);
