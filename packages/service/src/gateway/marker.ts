import { createHash } from 'node:crypto';
import type { Route } from '../front/front.js';

const COLOURS = {
  live: { tint: '#d9e8fb', fill: '#1e4e93', edge: '#113775', on: '#fafcfe' },
  staging: { tint: '#fcefd1', fill: '#e4ab3b', edge: '#895709', on: '#311d03' },
  dev: { tint: '#d5f1e9', fill: '#1e8170', edge: '#015a50', on: '#fafcfc' },
} as const;

const SHAPES = {
  live: 'M1.5,1.5H14.5V14.5H1.5Z',
  staging: 'M1.5,1.5H9.5L14.5,6.5V14.5H1.5Z',
  dev: 'M8,.7L15.3,8L8,15.3L.7,8Z',
} as const;

const LETTERS = {
  live: 'M6.2,4.9V11.1H10.2',
  staging: 'M10.2,6.1L9,4.9H7L5.8,6.1V6.8L7,8H9L10.2,9.2V9.9L9,11.1H7L5.8,9.9',
  dev: 'M6.3,5.1H8.6L10.1,6.6V9.4L8.6,10.9H6.3Z',
} as const;

const escapeHtml = (text: string): string => text.replace(/[&<>"']/g, (one) => `&#${one.charCodeAt(0)};`);

/** The tile of a kind as an SVG of a given size. */
export function tileSvg(kind: Route['kind'], size: number): string {
  const colour = COLOURS[kind];
  return `<svg width="${size}" height="${size}" viewBox="0 0 16 16" aria-hidden="true" xmlns="http://www.w3.org/2000/svg"><path d="${SHAPES[kind]}" fill="${colour.fill}" stroke="${colour.edge}" stroke-linejoin="round"/><path d="${LETTERS[kind]}" fill="none" stroke="${colour.on}" stroke-width="1.5" stroke-linecap="square"/></svg>`;
}

function ageOf(refreshedAt: string | null, now: Date): string {
  if (refreshedAt === null) return '';
  const hours = Math.floor((now.getTime() - Date.parse(refreshedAt)) / 3_600_000);
  return hours < 1
    ? 'brought up to date within the hour'
    : hours < 48
      ? `brought up to date ${hours} h ago`
      : `brought up to date ${Math.floor(hours / 24)} d ago`;
}

/** The strip's own style; constant for a kind, so that a page's policy can name it by its hash. */
const styleOf = ({ tint, fill }: (typeof COLOURS)[Route['kind']]): string =>
  `:host{all:initial}details{position:fixed;inset:auto 0 0 0;height:28px;z-index:2147483647;box-sizing:border-box;padding:0 10px;overflow:hidden;background:${tint};border-top:2px solid ${fill};color:#16222a;font:450 12px/26px system-ui,sans-serif}summary{float:left;display:flex;align-items:center;gap:10px;height:26px;margin-right:10px;cursor:pointer;list-style:none}summary::-webkit-details-marker{display:none}p{margin:0;height:26px;display:flex;align-items:center;gap:10px;white-space:nowrap}b{font-weight:600}a{color:inherit;margin-left:auto}details:not([open]){inset:auto auto 0 0;width:38px}details:not([open]) b{display:none}:focus-visible{outline:2px solid ${fill};outline-offset:-2px}`;

/** The hash by which a policy allows the strip's style. */
export const markerStyleHash = (kind: Route['kind']): string =>
  `'sha256-${createHash('sha256').update(styleOf(COLOURS[kind])).digest('base64')}'`;

/**
 * The strip that says which copy one is looking at. It lies over the page's bottom edge in a shadow tree, so that it
 * changes neither the page's layout nor its scripts, and runs none itself; it is put in right before `</body>`.
 */
export function markerHtml(route: Route, now: Date): string {
  const style = styleOf(COLOURS[route.kind]);
  const summary = `<summary aria-label="${escapeHtml(`${route.environment}, a copy: fold or unfold`)}">${tileSvg(route.kind, 18)}<b>${escapeHtml(route.environment)}</b></summary>`;
  const body = `<p><span>${escapeHtml(ageOf(route.refreshedAt, now))}</span><a href="${escapeHtml(`${route.console}/sites/${route.environment.split('/')[0]}`)}">Open in the console</a></p>`;
  return `<tsr-marker><template shadowrootmode="open"><style>${style}</style><details open>${summary}${body}</details></template></tsr-marker>`;
}

/** The page that strangers get instead of a copy. */
export function gatePage(route: Route, message: string): string {
  const colour = COLOURS[route.kind];
  return `<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><meta name="robots" content="noindex,nofollow"><title>A working copy</title><style>
body{margin:0;min-height:100vh;display:grid;place-items:center;background:#bac5c7;color:#16222a;font:450 14px/20px system-ui,sans-serif}
main{background:#f9fcfc;width:min(360px,100vw);box-sizing:border-box;padding:24px;border-top:4px solid ${colour.fill}}
h1{display:flex;gap:10px;align-items:center;font-size:16px;line-height:24px;margin:0 0 8px}p{margin:0 0 16px;color:#415057}
label{display:block;font-weight:600;margin:12px 0 4px}input{width:100%;box-sizing:border-box;height:36px;padding:0 8px;border:1px solid #758388;border-radius:2px;font:inherit;background:#fff;color:inherit}
button{margin-top:16px;width:100%;height:36px;border:0;border-radius:2px;background:#7d265e;color:#fefbfc;font:600 14px/20px system-ui,sans-serif;cursor:pointer}
:focus-visible{outline:2px solid #7d265e;outline-offset:2px}[role=alert]{background:#ffe8e4;padding:8px 12px;border-left:3px solid #c02621}
@media(prefers-color-scheme:dark){body{background:#040709;color:#e5ebec}main{background:#161c1f}p{color:#aeb8bb}input{background:#0e1215}button{background:#e491c0;color:#200c18}[role=alert]{background:#47211c}}
</style></head><body><main><h1>${tileSvg(route.kind, 24)}A working copy</h1><p>This is not the public site. It is open to those who work on it.</p>${message === '' ? '' : `<p role="alert">${escapeHtml(message)}</p>`}<form method="post" action="/.tessarion/gate"><label for="u">Name</label><input id="u" name="user" autocomplete="username" required><label for="p">Password</label><input id="p" name="password" type="password" autocomplete="current-password" required><button>Enter the copy</button></form></main></body></html>`;
}
