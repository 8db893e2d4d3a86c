export { type NewSite, type SiteContent, installSite } from './install.js';
export { WebHost } from './web-host.js';
export { makeDatabase, onDatabase, type ServerLogin } from './database.js';
