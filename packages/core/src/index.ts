export * from './address/place.js';
export { type Occurrence, OccurrenceFinder, type Reach } from './address/occurrences.js';
export * from './address/rewriter.js';
export { MARKER } from './address/token.js';
