import type { Problem } from '@tessarion/contract';
import type { Command } from 'commander';

/** Fields of the interface that an option of another name fills, wherever it stands. */
const OTHER_NAMES: Readonly<Record<string, string>> = {
  permissions: '--may',
  scope: '--for',
  windows: '<window>',
  looks: '--look',
  types: '--type',
  schedule: '--pull-at',
  roots: '--root',
  addresses: '--address',
  databases: '--database',
  description: '--describe',
  environment: '<site/name>',
  id: '--forecast',
};

/** How a field of the interface is given on the command line: an option, or an argument; undefined where it is neither. */
function optionOf(path: string, command: Command): string | undefined {
  const parts = path.split('.').slice(1).reverse();
  for (const part of parts) {
    const option = command.options.find((one) => one.attributeName() === part || one.attributeName() === `${part}s`);
    if (option?.long) return option.long;
    const argument = command.registeredArguments.find((one) => one.name() === part);
    if (argument) return `<${argument.name()}>`;
    const other = OTHER_NAMES[part];
    const has = (name: string): boolean =>
      command.options.some((one) => one.long === name) ||
      command.registeredArguments.some((one) => `<${one.name()}>` === name);
    if (other !== undefined && has(other)) return other;
  }
  // What is left names the thing itself.
  const [first] = command.registeredArguments;
  return first && path.startsWith('path.') ? `<${first.name()}>` : undefined;
}

/** What is wrong with what was given, by the options and arguments of a command; the rest by the interface's fields. */
export const byOption = (
  fields: NonNullable<Problem['fields']>,
  command: Command,
): { readonly option: string; readonly message: string }[] => {
  const [first] = command.registeredArguments;
  return fields.map(({ path, message }) => ({
    option: optionOf(path, command) ?? (path === 'body.name' && first ? `<${first.name()}>` : path),
    message,
  }));
};
