// The same promises as on the machine itself, by way of a real SSH server.
process.env.TESSARION_TEST_REACH = 'ssh';
await import('./push.test.js');
