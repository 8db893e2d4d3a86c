export { exchangeMasterKey, isMasterKey } from './keys.js';
export { type RunningService, type ServeOptions, serve } from './serve.js';
