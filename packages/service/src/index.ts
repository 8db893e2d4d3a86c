export { exchangeMasterKey, isMasterKey } from './ground/keys.js';
export { type RunningService, type ServeOptions, serve } from './main/serve.js';
