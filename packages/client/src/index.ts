export * from './client.js';
export * from './events.js';
export { type Answer, keepingCookie, type Question, type Send, sendByFetch } from './send.js';
