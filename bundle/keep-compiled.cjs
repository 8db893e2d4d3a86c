/** Runs every file that programs of the bundle share once, and keeps beside it what V8 compiled for that. */
const fs = require('node:fs');
const Module = require('node:module');
const { basename, join } = require('node:path');
const { compile, PROGRAMS } = require('./use-compiled.cjs');

const shared = fs.readdirSync(PROGRAMS).filter((name) => /-[\w-]{8}\.cjs$/.test(name));
const scripts = new Map();
Module._extensions['.cjs'] = (module, file) => {
  if (!shared.includes(basename(file))) throw new Error(`${file} is a program, and would be run.`);
  const script = compile(fs.readFileSync(file, 'utf8'), file);
  scripts.set(file, script);
  script.runInThisContext().call(module.exports, module.exports, Module.createRequire(file), module, file, PROGRAMS);
};
for (const name of shared) require(join(PROGRAMS, name));
for (const [file, script] of scripts) fs.writeFileSync(`${file}.compiled`, script.createCachedData());
process.exit(0);
