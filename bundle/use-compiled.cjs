/**
 * Lets files of the bundle start from compiled code that `keep-compiled.cjs` has left beside them. Node 20 has no
 * `module.enableCompileCache` (22.1 has). What V8 does not accept, such as after an update of Node, it compiles anew.
 */
const fs = require('node:fs');
const Module = require('node:module');
const { dirname, join } = require('node:path');
const vm = require('node:vm');

const PROGRAMS = join(__dirname, '../programs');

/** @returns {vm.Script} a function of exports, require, module, file and folder */
const compile = (code, file, cachedData) =>
  new vm.Script(Module.wrap(code), {
    filename: file,
    importModuleDynamically: vm.constants.USE_MAIN_CONTEXT_DEFAULT_LOADER,
    ...(cachedData ? { cachedData } : {}),
  });

function compiledOf(file) {
  try {
    return fs.readFileSync(`${file}.compiled`);
  } catch {
    return undefined;
  }
}

const byNode = Module._extensions['.cjs'] ?? Module._extensions['.js'];

Module._extensions['.cjs'] = (module, file) => {
  const compiled = dirname(file) === PROGRAMS && compiledOf(file);
  if (!compiled) return byNode(module, file);
  const script = compile(fs.readFileSync(file, 'utf8'), file, compiled);
  const run = script.runInThisContext();
  run.call(module.exports, module.exports, Module.createRequire(file), module, file, PROGRAMS);
};

module.exports = { PROGRAMS, compile };
