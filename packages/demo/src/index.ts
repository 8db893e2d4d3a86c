export { becomeAdministrator, bringIn, type DemoPlace, ended, install, prepareStudio } from './fill.js';
export { browser } from './people.js';
export { DEMO_SITES, type DemoSite } from './scenario.js';
export { Visitors, visit } from './visitors.js';
