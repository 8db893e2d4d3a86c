// The same histories as for PostgreSQL, through a real MariaDB.
process.env.TESSARION_TEST_SYSTEM = 'mariadb';
await import('./any-merge.test.js');
