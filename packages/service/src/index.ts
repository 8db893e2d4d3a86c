export { type RunningService, type ServeOptions, serve } from './serve.js';
