import { type Endpoint, endpoints } from '@tessarion/contract';
import { addTo } from '@tessarion/core';

const text = (value: string): string => value.replace(/[&<>]/g, (one) => `&#${one.charCodeAt(0)};`);

/** The interface as a page to read, made from the contract. */
export function documentationPage(version: string): string {
  const groups = new Map<string, Endpoint[]>();
  for (const definition of Object.values(endpoints) as Endpoint[]) {
    const group = definition.path.split('/')[1] as string;
    addTo(groups, group, definition);
  }
  const sections = [...groups].map(
    ([group, list]) =>
      `<h2>${text(group)}</h2>${list.map((one) => `<section><p><b>${one.method}</b> <code>/api/v1${text(one.path)}</code></p><p>${text(one.summary)}</p><p class="q">${needs(one.permission)}${one.isEdit ? '; <code>If-Match</code> with the <code>etag</code> of what was edited' : ''}</p></section>`).join('')}`,
  );
  return `<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Interface · Tessarion</title><style>
:root{color-scheme:light dark;--grout:#bac5c7;--slab:#f9fcfc;--ink:#16222a;--ink2:#415057;--bed:#e5eced}@media(prefers-color-scheme:dark){:root{--grout:#040709;--slab:#161c1f;--ink:#e5ebec;--ink2:#aeb8bb;--bed:#0e1215}}
body{margin:0;background:var(--grout);color:var(--ink);font:450 14px/20px system-ui,sans-serif}main{max-width:760px;margin:0 auto;display:grid;gap:2px}h1,h2,section,header{background:var(--slab);margin:0;padding:12px 16px}h1{font-size:20px;line-height:28px}h2{font-size:16px;line-height:24px}p{margin:0 0 4px}.q{color:var(--ink2)}code{background:var(--bed);padding:0 4px}</style></head><body><main><h1>Tessarion ${text(version)}: the HTTP interface</h1><header><p>JSON over HTTP. Sign in by cookie (<code>POST /api/v1/sign-in</code>) or send <code>Authorization: Bearer TOKEN</code>. Errors are problem details (RFC 9457) with a stable <code>type</code>, a plain <code>detail</code> and a <code>next</code> step. Acts accept <code>Idempotency-Key</code>. Edits want the <code>etag</code> of what was edited as <code>If-Match</code>, or <code>*</code>; 412 says that somebody was quicker. Times are UTC. Events stream from <code>/api/v1/events</code> and resume from <code>Last-Event-ID</code>. Machine-readable: <a href="/api/openapi.json">/api/openapi.json</a>.</p></header>${sections.join('')}</main></body></html>`;
}

function needs(permission: string): string {
  if (permission === 'open') return 'Needs no sign-in';
  if (permission === 'guest') return 'Needs a guest’s link';
  return `Needs ${permission === 'signed-in' ? 'to be signed in' : `the permission ${permission}`}`;
}
