export * from './endpoint.js';
export * from './endpoints.js';
export * from './openapi.js';
export * from './request-shapes.js';
export * from './shapes.js';
