import type { FleetEnvironment, FleetSite } from '@tessarion/contract';
import { type JSX, useEffect, useMemo, useRef, useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { TextButton } from '../../parts/button.js';
import { stateWord, Tile } from '../../parts/tile.js';
import { number } from '../../parts/words.js';
import { copiesOf, rank } from './groups.js';

/** The mosaic: each site is two copy cells left of live, always at its place; filtering dims the rest. */
export function Frieze({
  sites,
  shown,
  at,
}: {
  readonly sites: FleetSite[];
  readonly shown: ReadonlySet<string>;
  readonly at: string | null;
}): JSX.Element {
  const unit = sites.length <= 30 ? 14 : sites.length <= 120 ? 9 : 5;
  if (sites.length > 120) return <FriezeCanvas sites={sites} shown={shown} />;
  return (
    <nav
      className="col-span-full flex flex-wrap overflow-hidden bg-slab px-16 pt-14 pb-7 max-desk:p-12"
      aria-label="The fleet"
      style={{
        justifyContent: sites.length < 12 ? 'flex-start' : 'space-between',
        gap: `8px ${unit === 14 ? 8 : 6}px`,
      }}
    >
      {sites.map((site) => {
        const copies = copiesOf(site)
          .sort((a, b) => rank(a) - rank(b))
          .slice(0, 2)
          .sort((a, b) => (a.kind === b.kind ? 0 : a.kind === 'staging' ? -1 : 1));
        const live = site.environments.find((one) => one.kind === 'live');
        return (
          <Link
            key={site.name}
            className={`grid grid-cols-[auto_auto_1fr] gap-x-1 max-desk:w-auto! ${at === site.name ? 'outline-2 outline-accent outline-offset-3' : ''}`}
            style={{ width: unit === 14 ? 44 : undefined }}
            to={`/sites/${site.name}`}
            title={`${site.name} · ${site.client}`}
            aria-label={`${site.name}: ${site.environments.map((one) => `${one.name} ${stateWord(one.state)}`).join(', ')}`}
          >
            <span className={`grid gap-y-1 ${shown.has(site.name) ? '' : 'opacity-25'}`}>
              {[0, 1].map((i) => {
                const copy = copies[i];
                return copy ? (
                  <Tile
                    key={copy.path}
                    kind={copy.kind}
                    state={copy.state}
                    size={unit}
                    decorative
                    className="max-desk:size-[9.5px]"
                  />
                ) : (
                  <i
                    key={`vacant ${String(i)}`}
                    className="block bg-bed max-desk:size-[9.5px]!"
                    style={{ width: unit, height: unit }}
                  />
                );
              })}
            </span>
            {live && (
              <Tile
                kind="live"
                state={live.state}
                size={2 * unit + 1}
                letter={false}
                decorative
                className={`max-desk:size-20 ${shown.has(site.name) ? '' : 'opacity-25'}`}
              />
            )}
            {unit === 14 && (
              <span
                className={`-mr-6 col-span-full mt-3 truncate text-micro font-stretch-80% max-desk:hidden ${at === site.name ? 'text-ink' : 'text-ink3'}`}
              >
                {site.name}
              </span>
            )}
          </Link>
        );
      })}
    </nav>
  );
}

/** Whether somebody wants the room that it takes for the rows. */
const STORED = 'tessarion mosaic';

/** The same mosaic for large fleets, drawn on one canvas. */
function FriezeCanvas({
  sites,
  shown,
}: {
  readonly sites: FleetSite[];
  readonly shown: ReadonlySet<string>;
}): JSX.Element {
  const canvas = useRef<HTMLCanvasElement>(null);
  const navigate = useNavigate();
  const [isFolded, setFolded] = useState(() => localStorage.getItem(STORED) === 'folded');
  const unit = sites.length <= 600 ? 5 : 3;
  const gap = unit === 5 ? 4 : 3;
  const block = { width: 3 * unit + 2 + gap, height: 2 * unit + 1 + gap };
  const cells = useMemo(
    () =>
      sites.map((site) => {
        const [first, second] = copiesOf(site).sort((a, b) => rank(a) - rank(b));
        return { name: site.name, first, second, live: site.environments.find((one) => one.kind === 'live') };
      }),
    [sites],
  );
  useEffect(() => {
    const element = canvas.current;
    if (!element || isFolded) return;
    const draw = (): void => {
      const known = new Map<string, string>();
      // What a token stands for, light or dark, is known where it is used: the canvas itself has no words to colour.
      const colour = (name: string): string => {
        const read = known.get(name);
        if (read !== undefined) return read;
        element.style.color = `var(--color-${name})`;
        const value = getComputedStyle(element).color;
        known.set(name, value);
        return value;
      };
      const columns = Math.max(1, Math.floor((element.clientWidth + gap) / block.width));
      const ratio = window.devicePixelRatio;
      element.style.height = `${Math.ceil(sites.length / columns) * block.height}px`;
      element.width = element.clientWidth * ratio;
      element.height = Math.ceil(sites.length / columns) * block.height * ratio;
      const pen = element.getContext('2d');
      if (!pen) return;
      pen.scale(ratio, ratio);
      const paint = (one: FleetEnvironment | undefined, base: number, x: number, y: number, side: number): void => {
        if (!one) pen.fillStyle = colour('bed');
        else if (one.state === 'failed') pen.fillStyle = colour('danger');
        else pen.fillStyle = colour(one.state === 'not-reached' ? 'rim' : one.kind);
        pen.globalAlpha = one?.state === 'in-step' ? base * 0.6 : base;
        pen.fillRect(x, y, side, side);
      };
      for (const [i, { name, first, second, live }] of cells.entries()) {
        const [x, y] = [(i % columns) * block.width, Math.floor(i / columns) * block.height];
        const base = shown.has(name) ? 1 : 0.25;
        paint(first, base, x, y, unit);
        paint(second, base, x, y + unit + 1, unit);
        paint(live, base, x + unit + 1, y, 2 * unit + 1);
      }
    };
    draw();
    let width = element.clientWidth;
    const watch = new ResizeObserver(() => {
      if (element.clientWidth === width) return;
      width = element.clientWidth;
      draw();
    });
    watch.observe(element);
    return () => watch.disconnect();
  }, [sites.length, cells, shown, unit, gap, block.width, block.height, isFolded]);
  const fold = (next: boolean): void => {
    localStorage.setItem(STORED, next ? 'folded' : 'open');
    setFolded(next);
  };
  return (
    <section
      className={`relative col-span-full flex flex-wrap overflow-hidden bg-slab px-16 pb-7 max-desk:px-12 ${isFolded ? 'h-36 items-center pt-7' : 'pt-14'}`}
      aria-label="The fleet; the rows below say the same"
    >
      <TextButton
        className={isFolded ? '' : 'absolute! right-16 bottom-4 bg-slab pl-8'}
        aria-expanded={!isFolded}
        onClick={() => fold(!isFolded)}
      >
        {isFolded ? `Unfold the mosaic of ${number(sites.length)} sites` : 'Fold'}
      </TextButton>
      <canvas
        hidden={isFolded}
        ref={canvas}
        style={{ width: '100%' }}
        onClick={(event) => {
          const columns = Math.max(1, Math.floor((event.currentTarget.clientWidth + gap) / block.width));
          const box = event.currentTarget.getBoundingClientRect();
          const site =
            sites[
              Math.floor((event.clientY - box.top) / block.height) * columns +
                Math.floor((event.clientX - box.left) / block.width)
            ];
          if (site) void navigate(`/sites/${site.name}`);
        }}
      />
    </section>
  );
}
