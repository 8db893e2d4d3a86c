import { Command, CommanderError } from 'commander';
import { addWanted } from './commands/wanted.js';

/** Every command hangs on it once it is wanted. */
export const program = new Command('tessarion')
  .description('Looks after the dev, staging and live environments of many client sites.')
  .version('0.1.0')
  .option('--url <ADDRESS>', 'where the service answers')
  .option('--token <TOKEN>', 'who you are')
  .option('--token-from <FILE>', 'a file that holds the token and nothing else; - reads the standard input')
  .exitOverride()
  .configureHelp({ showGlobalOptions: true })
  .configureOutput({ getOutHelpWidth: () => Math.min(100, process.stdout.columns || 100) })
  .showSuggestionAfterError()
  .addHelpText(
    'after',
    '\nExamples:\n  tessarion site list\n  tessarion push --from threadmill/staging --onto threadmill/live',
  );

/** The command that was asked for, as far as it was understood. */
let reached: Command = program;

const inherit = (command: Command): void => {
  for (const child of command.commands) {
    child
      .exitOverride((error) => {
        reached = child;
        throw error;
      })
      // It is said with what to do next, below.
      .configureOutput({ outputError: () => undefined });
    inherit(child);
  }
};

/** Runs the command that the process was given. */
export async function run(): Promise<void> {
  try {
    await addWanted(program, process.argv.slice(2));
    program.configureOutput({ outputError: () => undefined });
    inherit(program);
    program.hook('preAction', (_program, command) => {
      reached = command;
    });
    await program.parseAsync();
  } catch (error) {
    if (error instanceof CommanderError && error.exitCode === 0) return;
    const { describeError, problemOf, usageError } = await import('./errors.js');
    const told = error instanceof CommanderError ? usageError(error, reached) : error;
    // A bare name of a group shows its help.
    if (told === undefined) {
      process.exitCode = 2;
      return;
    }
    const { code, lines } = describeError(told, reached);
    const isJson = process.argv.includes('--json');
    if (isJson) process.stderr.write(`${JSON.stringify(problemOf(told, code, reached))}\n`);
    else {
      const { tell } = await import('./output.js');
      for (const line of lines.join('\n').split('\n')) tell(line);
    }
    process.exitCode = code;
  }
}
