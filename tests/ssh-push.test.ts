import { keepsPushPromises } from './support/push-promises.js';

keepsPushPromises({ reach: 'ssh' });
