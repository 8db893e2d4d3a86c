export { freePort } from './free-port.js';
export * from './private-cluster.js';
export * from './write-whole.js';
