export * from './private-cluster.js';
export { freePort } from './free-port.js';
