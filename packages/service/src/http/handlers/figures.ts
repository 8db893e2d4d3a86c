import { newId } from '../../ground/data-folder.js';
import { ProblemError } from '../../ground/problems.js';
import { figuresOf } from '../views/figures.js';
import type { Handlers } from './call.js';

const MOST_VIEWS = 50;

export const figureHandlers: Handlers<'figuresShow' | 'viewList' | 'viewSave' | 'viewRemove'> = {
  figuresShow: ({ installation: { records, now }, query, sight }) => figuresOf(records, sight, now(), query.site),

  viewList: ({ installation: { records }, person }) =>
    records('saved_view')
      .where({ person_id: person.id })
      .orderBy(['room', 'name'])
      .select('id', 'room', 'name', 'query'),

  viewSave: ({ installation: { records }, person, body }) =>
    records.transaction(async (trx) => {
      await trx('person').where({ id: person.id }).forUpdate().first('id');
      const { room, name, query } = body;
      const own = { person_id: person.id, room, name };
      const known = await trx('saved_view').where(own).first('id');
      if (!known) {
        const kept = (await trx('saved_view').where({ person_id: person.id }).count('* as count').first()) as {
          count: string;
        };
        if (Number(kept.count) >= MOST_VIEWS)
          throw new ProblemError('conflict', `You keep ${MOST_VIEWS} views already.`, 'Forget one of them first.');
      }
      const id = known?.id ?? newId('e');
      await trx('saved_view')
        .insert({ id, ...own, query })
        .onConflict('id')
        .merge(['query']);
      return { id, room, name, query };
    }),

  async viewRemove({ installation: { records }, person, params }) {
    const gone = await records('saved_view').where({ id: params.id, person_id: person.id }).delete();
    if (gone === 0) throw new ProblemError('not-found', `You keep no view ${params.id}.`, 'List them first.');
    return undefined;
  },
};
