export { becomeAdministrator, bringIn, type DemoPlace, ended, prepareStudio } from './fill.js';
export type { DemoSite } from './scenario.js';
export { Visitors, visit } from './visitors.js';
