import { keepsPushPromises } from './support/push-promises.js';

keepsPushPromises();
