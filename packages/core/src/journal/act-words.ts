/** What a person did, in words that go between their name and the name of the thing; `{}` stands where the thing goes. */
const WORDS: Readonly<Record<string, string>> = {
  signIn: 'signed in',
  signOut: 'signed out',
  factorBegin: 'began to set up a second factor',
  factorConfirm: 'set up a second factor',
  factorCodes: 'renewed recovery codes',
  factorEnd: 'ended the second factor',
  firstAdministrator: 'became the first administrator',
  tokenCreate: 'made the token {}',
  tokenRemove: 'ended the token {}',
  personInvite: 'invited {}',
  personInviteAgain: 'made a new link for {}',
  personEnd: 'ended the access of {}',
  personReturn: 'let {} in again',
  personErase: 'erased the name of {}',
  personFactorEnd: 'ended the second factor of {}',
  invitationAccept: 'came in by an invitation',
  roleGive: 'gave a role to {}',
  roleTake: 'took a role from {}',
  roleSave: 'saved the role {}',
  roleRemove: 'removed the role {}',
  teamSave: 'saved the team {}',
  teamRemove: 'removed the team {}',
  sessionEnd: 'ended a session',
  sessionsEnd: 'ended their other sessions',
  passwordChange: 'chose another password',
  serverCreate: 'added {}',
  serverTry: 'tried {}',
  serverClear: 'removed what was left behind on {}',
  siteTag: 'gave tags to {}',
  siteTry: 'tried to bring in {}',
  siteLeave: 'gave {} back',
  siteAdopt: 'brought in {}',
  profileSave: 'saved the profile {}',
  profileUse: 'chose the profile of {}',
  profileClassify: 'classified a table for {}',
  environmentCreate: 'made {}',
  environmentEdit: 'described {}',
  environmentRename: 'renamed {}',
  environmentRemove: 'removed {}',
  environmentEnter: 'opened {}',
  environmentLogins: 'looked at the login of {}',
  pushCreate: 'pushed onto {}',
  pullCreate: 'brought news into {}',
  resetCreate: 'reset {}',
  restoreCreate: 'restored a snapshot onto {}',
  transferStop: 'stopped a transfer onto {}',
  transferUndo: 'took a transfer onto {} back',
  transferAcknowledge: 'has seen what failed on {}',
  transferEnd: 'ended a transfer onto {}',
  snapshotTake: 'took a snapshot of {}',
  snapshotVerify: 'verified a snapshot of {}',
  snapshotRemove: 'removed a snapshot of {}',
  laneRule: 'set what {} asks for',
  requestOpen: 'opened {}',
  requestEdit: 'edited {}',
  requestAsk: 'asked for a review of {}',
  requestRevise: 'had both ends of {} looked at again',
  requestWithdraw: 'withdrew {}',
  claimAsk: 'asked for something of {}',
  claimYield: 'let others go first with something of {}',
  previewMake: 'made a preview of {}',
  previewRemove: 'removed the preview of {}',
  verdictGive: 'gave a verdict on {}',
  stepTick: 'ticked a step of {}',
  commentAdd: 'commented on {}',
  commentEdit: 'edited a comment on {}',
  commentRemove: 'removed a comment on {}',
  threadResolve: 'resolved a conversation on {}',
  requestDeliver: 'had {} delivered',
  requestUnschedule: 'took the time of {} back',
  calendarMake: 'made a calendar feed',
  calendarEnd: 'ended the calendar feed',
  windowSet: 'set the windows of {}',
  freezeAdd: 'froze {}',
  freezeRemove: 'lifted a freeze of {}',
  guestInvite: 'invited a guest to {}',
  guestEnd: 'ended a guest’s link to {}',
  guestAnswer: 'answered a guest of {}',
  guestEnter: 'came in by a link to {}',
  guestOpen: 'looked at {}',
  guestSay: 'said something of {}',
  guestApprove: 'said yes to {}',
  guestChoose: 'chose {}',
  valueErase: 'erased a value from all records',
  noticeWish: 'changed what is mailed',
  digestTimeSet: 'changed when mail comes',
  mailStop: 'ended mails by a link',
  webhookAdd: 'added the webhook {}',
  webhookRemove: 'removed the webhook {}',
  webhookResend: 'sent something again to {}',
  masterKeyExchange: 'exchanged the master key',
};

/** Whether an act has words of its own: all that leave an entry in the journal are to have them. */
export const hasActWords = (act: string): boolean => Object.hasOwn(WORDS, act);

/**
 * An entry of the journal as a sentence without its subject, in three parts: words, the thing, and words after it.
 *
 * @param act as the interface calls it
 * @param says of a verdict, what it says
 */
export function actWords(act: string, says?: unknown): readonly [before: string, hasThing: boolean, after: string] {
  const words =
    act === 'verdictGive' && says === 'approve'
      ? 'approved {}'
      : act === 'verdictGive' && says === 'return'
        ? 'sent {} back'
        : (WORDS[act] ?? `did ${act} to {}`);
  const [before = '', after] = words.split('{}');
  return [before.trim(), after !== undefined, after?.trim() ?? ''];
}
