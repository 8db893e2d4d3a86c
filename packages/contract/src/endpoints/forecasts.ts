import { z } from 'zod';
import { endpoint } from '../endpoint.js';
import * as s from '../shapes.js';
import { byId, none, nothing, Page, paged } from './inputs.js';

/** Forecasts, their items and what is decided about them. */
export const forecastsEndpoints = {
  forecastCreate: endpoint({
    method: 'POST',
    path: '/forecasts',
    permission: 'site.read',
    about: { environments: ['body.from', 'body.onto'], snapshot: 'body.snapshot' },
    isAct: false,
    costs: 10,
    summary: 'Compute what a push (upward) or a pull (downward) would do.',
    params: nothing,
    query: nothing,
    body: z.strictObject({
      from: s.EnvironmentPath,
      onto: s.EnvironmentPath,
      snapshot: s.Id.optional(),
      method: z.enum(['merge', 'replace']).optional(),
      wishes: s.ForecastWishes.partial().optional(),
    }),
    response: s.Forecast,
    status: 202,
  }),
  forecastUndo: endpoint({
    method: 'POST',
    path: '/transfers/:id/undo-forecasts',
    permission: 'site.read',
    about: { transfer: 'params.id' },
    isAct: false,
    costs: 10,
    summary:
      'Compute what taking a transfer back would do; what others changed since stays, unless the wishes say otherwise.',
    params: byId,
    query: nothing,
    body: s.ForecastWishes.partial(),
    response: s.Forecast,
    status: 202,
  }),
  forecastShow: endpoint({
    method: 'GET',
    path: '/forecasts/:id',
    permission: 'site.read',
    about: { forecast: 'params.id' },
    summary: 'Show a forecast.',
    params: byId,
    query: nothing,
    body: none,
    response: s.Forecast,
  }),
  forecastSettle: endpoint({
    method: 'POST',
    path: '/forecasts/:id/wishes',
    permission: 'site.read',
    about: { forecast: 'params.id' },
    isAct: false,
    costs: 10,
    summary: 'Choose what moves and settle collisions; the forecast is computed anew.',
    params: byId,
    query: nothing,
    body: s.ForecastWishes.partial(),
    response: s.Forecast,
    status: 202,
  }),
  forecastItems: endpoint({
    method: 'GET',
    path: '/forecasts/:id/items',
    permission: 'site.read',
    about: { forecast: 'params.id' },
    summary: 'List the items of a forecast.',
    params: byId,
    query: Page,
    body: none,
    response: paged(s.ForecastItem),
  }),
  forecastFile: endpoint({
    method: 'GET',
    path: '/forecasts/:id/file',
    permission: 'site.read',
    about: { forecast: 'params.id' },
    costs: 5,
    summary:
      'Show an item’s file, or the picture that a field of it names: of the source or destination now, or as both had it.',
    params: byId,
    query: z.strictObject({
      item: z.string().max(2000),
      side: z.enum(['source', 'destination', 'base']),
      /** A field that is shown as a picture. */
      field: z.string().max(200).optional(),
    }),
    body: none,
    response: s.ShownFile,
  }),
} as const;
