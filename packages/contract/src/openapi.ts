import { z } from 'zod';
import type { Endpoint } from './endpoint.js';
import { endpoints } from './endpoints.js';
import { Problem } from './shapes.js';

type Json = Record<string, unknown>;

const schemaOf = (type: z.ZodType, io: 'input' | 'output'): Json => {
  const { $schema: _unused, ...schema } = z.toJSONSchema(type, { io, unrepresentable: 'any' }) as Json;
  return schema;
};

/** The OpenAPI 3.1 document of the interface. */
export function openApiDocument(version: string): Json {
  const paths: Record<string, Json> = {};
  for (const [name, definition] of Object.entries(endpoints) as [string, Endpoint][]) {
    const path = `/api/v1${definition.path.replace(/:(\w+)/g, '{$1}')}`;
    paths[path] = { ...paths[path], [definition.method.toLowerCase()]: operation(name, definition) };
  }
  return {
    openapi: '3.1.0',
    info: { title: 'Tessarion', version, license: { name: 'MIT' } },
    components: {
      securitySchemes: {
        token: { type: 'http', scheme: 'bearer' },
        session: {
          type: 'apiKey',
          in: 'cookie',
          name: 'tessarion_session',
          description: 'Where people come by TLS: __Host-tessarion_session.',
        },
        guest: { type: 'apiKey', in: 'cookie', name: 'tessarion_guest' },
      },
    },
    paths,
  };
}

const IF_MATCH: Json = {
  name: 'If-Match',
  in: 'header',
  required: false,
  description: 'Entity tag of what is edited, as it was read, or *; needed where something is there already.',
  schema: { type: 'string' },
};

function operation(name: string, definition: Endpoint): Json {
  const parameters = [
    ...parametersOf('path', definition.params),
    ...parametersOf('query', definition.query),
    ...(definition.isEdit ? [IF_MATCH] : []),
  ];
  const hasBody = !(definition.body instanceof z.ZodUndefined);
  const hasResponse = !(definition.response instanceof z.ZodUndefined);
  return {
    operationId: name,
    summary: definition.summary,
    'x-permission': definition.permission,
    'x-costs': definition.costs ?? 1,
    security:
      definition.permission === 'open'
        ? []
        : definition.permission === 'guest'
          ? [{ guest: [] }]
          : [{ token: [] }, { session: [] }],
    parameters,
    ...(hasBody
      ? {
          requestBody: {
            required: true,
            content: { 'application/json': { schema: schemaOf(definition.body, 'input') } },
          },
        }
      : {}),
    responses: {
      [String(definition.status ?? 200)]: {
        description: 'Done',
        ...(hasResponse
          ? {
              content: definition.isText
                ? { 'application/jsonl': {}, 'text/csv': {} }
                : { 'application/json': { schema: schemaOf(definition.response, 'output') } },
            }
          : {}),
      },
      default: {
        description: 'What went wrong, why, and what to do next',
        content: { 'application/problem+json': { schema: schemaOf(Problem, 'output') } },
      },
    },
  };
}

function parametersOf(place: 'path' | 'query', type: z.ZodType): Json[] {
  const schema = schemaOf(type, 'input') as { properties?: Record<string, Json>; required?: string[] };
  return Object.entries(schema.properties ?? {}).map(([name, property]) => ({
    name,
    in: place,
    required: place === 'path' || (schema.required ?? []).includes(name),
    schema: property,
  }));
}
