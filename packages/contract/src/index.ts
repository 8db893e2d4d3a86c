export * from './endpoint.js';
export * from './endpoints.js';
export * from './openapi.js';
export * from './shapes.js';
