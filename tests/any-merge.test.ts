import { mergesAtRandom } from './support/merging-at-random.js';

mergesAtRandom();
