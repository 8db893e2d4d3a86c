import type { RequestDetail, RequestItem } from '@tessarion/contract';
import { counted, momentWords, wantedBy } from '@tessarion/core';
import { bold, cut, dim, print, printTable, say, when } from '../output.js';

/** Names a request to an endpoint. */
export const byId = (id: string) => ({ params: { id } });

const standing = (item: RequestItem): string => {
  if (item.outcome === 'needs-you') return 'collides';
  if (item.outcome === 'kept') return 'stays';
  if (item.lapsedFor.length > 0) return `changed since ${item.lapsedFor.join(', ')} approved`;
  const missing = wantedBy({ approvals: item.missing, teams: item.missingTeams, guests: item.missingGuests });
  if (missing.length > 0) return `needs ${missing.join(', ')}`;
  return item.approvedBy.length > 0 ? `approved by ${item.approvedBy.join(', ')}` : 'needs nobody';
};

/** Prints a request as people read it. */
export function printRequest(request: RequestDetail): void {
  print(bold(request.title));
  say(request.sentence.map((piece) => piece.text).join(''));
  print(
    `${request.id}, ${request.state}, revision ${request.revision}, by ${request.author.name}${request.deliverAt ? `, due ${when(request.deliverAt)}` : ''}`,
  );
  if (request.wantedFor) {
    const said = request.wantedMoment ? `: ${momentWords(request.wantedMoment, when)}` : '';
    print(`Wanted ${request.wantedFor === 'window' ? 'in the next window' : `for ${when(request.wantedFor)}`}${said}`);
  }
  if (request.because) print(`Because: ${request.because}`);
  if (request.urgent) print(`Urgent: ${request.urgent}`);
  if (request.undoes) print(`Takes back: ${request.undoes}`);
  if (request.description) print(`\n${request.description}`);
  print();
  printTable(
    ['item', 'title', 'change', 'rev', 'standing'],
    request.items
      .slice(0, 40)
      .map((item) => [
        item.id.length > 24 ? item.kind : item.id,
        item.openThreads > 0 ? `${item.title} (${counted(item.openThreads, 'thread')})` : item.title,
        item.change,
        String(item.since),
        cut(standing(item), 34),
      ]),
    [3],
    1,
  );
  if (request.items.length > 40) print(dim(`and ${request.items.length - 40} more`));
  print();
  for (const one of request.reviewers)
    print(
      `${one.person?.name ?? `team ${one.team}`}: ${one.says === null ? 'has said nothing yet' : `${one.says === 'approve' ? 'approved' : 'sent it back'}${one.isCurrent ? '' : ', of a former revision'}`}`,
    );
  for (const held of request.waitsFor)
    print(`Waits for ${held.item}, claimed by "${held.title}" (${held.request}) of ${held.author}.`);
  for (const step of request.steps)
    print(
      `${step.doneAt ? 'done' : 'to do'}  ${step.phase} the delivery: ${step.text}  ${dim(step.doneAt ? `${step.doneBy}, ${when(step.doneAt)}` : step.id)}`,
    );
  printThreads(request);
  const open = request.acts.filter((one) => one.allowed).map((one) => one.act);
  if (open.length > 0) print(dim(`You may: ${open.join(', ')}`));
}

/** Prints what people say of a request, thread by thread. */
export function printThreads({ threads }: RequestDetail): void {
  for (const thread of threads) {
    const about = thread.item === null ? 'the request' : `${thread.item}${thread.field ? `, ${thread.field}` : ''}`;
    print(`\n${bold(about)}  ${dim(`${thread.id}${thread.resolvedAt ? `, resolved by ${thread.resolvedBy}` : ''}`)}`);
    for (const comment of thread.comments)
      print(
        `  ${comment.author?.name ?? 'Somebody'}, ${when(comment.at)}${comment.editedAt ? ', edited' : ''}: ${comment.removedAt ? dim('removed') : comment.text}${comment.id === thread.id ? '' : `  ${dim(comment.id)}`}`,
      );
  }
}
