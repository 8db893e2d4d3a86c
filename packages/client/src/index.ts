export * from './client.js';
export * from './events.js';
