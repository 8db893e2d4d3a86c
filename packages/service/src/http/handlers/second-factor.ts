import { renderSVG } from 'uqr';
import { ProblemError } from '../../ground/problems.js';
import { beginFactor, endFactor, renewRecovery, showFactor } from '../../people/second-factor.js';
import { mustBeSession } from './access.js';
import type { Call, Handlers } from './call.js';

export const secondFactorHandlers: Handlers<
  'factorShow' | 'factorBegin' | 'factorConfirm' | 'factorCodes' | 'factorEnd'
> = {
  factorShow: ({ installation, person }) => showFactor(installation.records, person.id),

  async factorBegin(call) {
    const { installation, person, body, access } = call;
    mustBeSession(call);
    await access.mustKnowPassword(person, body.password);
    return installation.records.transaction(async (trx) => {
      const begun = await beginFactor(trx, installation.folder.keys, person, installation.now());
      await call.note(trx, person.id, {});
      return { ...begun, picture: renderSVG(begun.uri, { border: 2 }) };
    });
  },

  factorConfirm(call) {
    const { installation, person, body, access } = call;
    mustBeSession(call);
    return installation.records.transaction(async (trx) => {
      const codes = await access.confirmFactor(trx, person, body.code);
      await call.note(trx, person.id, {});
      return { ...(await showFactor(trx, person.id)), codes };
    });
  },

  factorCodes(call) {
    const { installation, person, body, access } = call;
    mustBeSession(call);
    return installation.records.transaction(async (trx) => {
      await mustBeOn(call, trx);
      await access.mustHaveFactor(trx, person, body.code);
      const codes = await renewRecovery(trx, installation.folder.keys, person.id);
      await call.note(trx, person.id, {});
      return { ...(await showFactor(trx, person.id)), codes };
    });
  },

  factorEnd(call) {
    const { installation, person, body, access } = call;
    mustBeSession(call);
    return installation.records.transaction(async (trx) => {
      await mustBeOn(call, trx);
      await access.mustHaveFactor(trx, person, body.code);
      await endFactor(trx, person.id);
      await call.note(trx, person.id, {});
      return showFactor(trx, person.id);
    });
  },
};

/** @throws {ProblemError} `conflict` */
async function mustBeOn({ person }: Call, trx: Parameters<typeof showFactor>[0]): Promise<void> {
  if (!(await showFactor(trx, person.id)).isOn)
    throw new ProblemError('conflict', 'You are asked for no second factor.', 'Set one up first.');
}
