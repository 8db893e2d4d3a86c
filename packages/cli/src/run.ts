import { Command, CommanderError } from 'commander';
import { addWanted } from './commands/wanted.js';

/** Every command hangs on it once it is wanted. */
export const program = new Command('tessarion')
  .description('Looks after the dev, staging and live environments of many client sites.')
  .version('0.1.0')
  .option('--url <ADDRESS>', 'where the service answers')
  .option('--token <TOKEN>', 'who you are')
  .exitOverride()
  .configureHelp({ showGlobalOptions: true })
  .configureOutput({ getOutHelpWidth: () => Math.min(100, process.stdout.columns || 100) })
  .showSuggestionAfterError()
  .addHelpText(
    'after',
    '\nExamples:\n  tessarion site list\n  tessarion push --from threadmill/staging --onto threadmill/live',
  );

const inherit = (command: Command): void => {
  for (const child of command.commands) {
    child.exitOverride();
    inherit(child);
  }
};

/** Runs the command that the process was given. */
export async function run(): Promise<void> {
  try {
    await addWanted(program, process.argv.slice(2));
    inherit(program);
    await program.parseAsync();
  } catch (error) {
    if (error instanceof CommanderError) process.exitCode = error.exitCode === 0 ? 0 : 2;
    else {
      const { describeError, problemOf } = await import('./errors.js');
      const { code, lines } = describeError(error);
      const isJson = process.argv.includes('--json');
      process.stderr.write(isJson ? `${JSON.stringify(problemOf(error, code))}\n` : `${lines.join('\n')}\n`);
      process.exitCode = code;
    }
  }
}
