export { type Finding, type StartedProfile, startProfile } from './document.js';
export type * from './facts.js';
export { speaksOf } from './names.js';
