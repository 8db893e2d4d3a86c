export * from './endpoint.js';
export * from './endpoints.js';
export * from './guest-shapes.js';
export * from './openapi.js';
export * from './request-shapes.js';
export * from './shapes.js';
export * from './sign-in-problems.js';
