import { scaleLinear } from 'd3-scale';
import type { JSX } from 'react';

/** A value over a label, and in words for who hovers it. */
export interface Column {
  readonly label: string;
  readonly value: number;
  readonly words: string;
}

const TILES = 20;
const [WIDTH, HEIGHT, GAP] = [11, 4, 1];
const STEP = HEIGHT + GAP;

/** Columns laid of tiles, on a scale that ends at a round number; one stands out. Beside it stands a table of the same. */
export function TileColumns({
  columns,
  point,
  name,
  gap = 7,
  every = 1,
}: {
  readonly columns: readonly Column[];
  /** Which one stands out, with its value above it. */
  readonly point: number;
  readonly name: string;
  /** Between two columns. */
  readonly gap?: number;
  /** How many columns a label stands for. */
  readonly every?: number;
}): JSX.Element {
  const most = Math.max(1, ...columns.map((one) => one.value));
  const scale = scaleLinear().domain([0, most]).nice().range([0, TILES]);
  const width = columns.length * (WIDTH + gap) + gap;
  const base = 24 + TILES * STEP;
  return (
    <svg
      className="block max-w-full overflow-visible"
      width={width}
      height={base + 18}
      viewBox={`0 0 ${width} ${base + 18}`}
      role="img"
      aria-label={name}
    >
      {columns.map((one, i) => {
        const x = gap + i * (WIDTH + gap);
        // What is there at all is at least one tile.
        const laid = one.value === 0 ? 0 : Math.max(1, Math.round(scale(one.value)));
        const isPoint = i === point;
        return (
          <g key={one.label} className={isPoint ? 'fill-accent' : 'fill-ink3'}>
            <title>{one.words}</title>
            <rect className="fill-transparent" x={x - gap / 2} y={0} width={WIDTH + gap} height={base} />
            {Array.from({ length: laid }, (_tile, k) => (
              <rect key={String(k)} x={x} y={base - (k + 1) * STEP} width={WIDTH} height={HEIGHT} />
            ))}
            {laid === 0 && <rect className="fill-line" x={x} y={base - 1} width={WIDTH} height={1} />}
            {isPoint && (
              <text
                x={i === 0 ? x : i === columns.length - 1 ? x + WIDTH : x + WIDTH / 2}
                y={base - laid * STEP - 8}
                textAnchor={i === 0 ? 'start' : i === columns.length - 1 ? 'end' : 'middle'}
                className="text-micro font-semibold"
              >
                {one.words.split(':').at(-1)?.trim()}
              </text>
            )}
            {i % every === 0 && (
              <text x={x + WIDTH / 2} y={base + 13} textAnchor="middle" className="fill-ink3 text-micro">
                {one.label}
              </text>
            )}
          </g>
        );
      })}
    </svg>
  );
}
