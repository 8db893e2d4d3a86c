export { makeDatabase, onDatabase, type ServerLogin } from './database.js';
export { installSite, type NewSite, type SiteContent } from './install.js';
export { WebHost } from './web-host.js';
