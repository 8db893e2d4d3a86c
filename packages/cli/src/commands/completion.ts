import { Argument, type Command } from 'commander';
import { print } from '../output.js';
import { examples } from './options.js';

/** What can follow the words of a command, and what each means. */
interface Place {
  /** Words that lead here, such as `env create`; empty for the program itself. */
  readonly path: string;
  readonly follows: readonly { readonly word: string; readonly means: string }[];
  /** What can follow an option that knows its values. */
  readonly values: Readonly<Record<string, readonly string[]>>;
}

function placesOf(command: Command, path = ''): Place[] {
  const own = [...command.options, ...(path === '' ? [] : (command.parent?.options ?? []))].filter((one) => one.long);
  const follows = [
    ...command.commands.map((one) => ({ word: one.name(), means: one.description() })),
    ...own.map((one) => ({ word: one.long as string, means: one.description })),
    { word: '--help', means: 'what it does, with examples' },
  ];
  const values = Object.fromEntries(
    own.flatMap((one) => (one.argChoices ? [[one.long as string, one.argChoices] as const] : [])),
  );
  return [
    { path, follows, values },
    ...command.commands.flatMap((one) => placesOf(one, path === '' ? one.name() : `${path} ${one.name()}`)),
  ];
}

/** Text in single quotes, in which the shells take everything as it stands but the quote itself. */
const quoted = (text: string): string => `'${text.replaceAll("'", `'\\''`)}'`;

/** Words of a line that lead to a place: options end them, and so does what is no command. */
const LEADING = `  local place="" word
  for word in "\${given[@]}"; do
    case " $all " in *" \${place:+$place:}$word "*) place="\${place:+$place:}$word" ;; *) break ;; esac
  done`;

const commandsOf = (places: readonly Place[]): string =>
  places.flatMap(({ path }) => (path === '' ? [] : [path.replaceAll(' ', ':')])).join(' ');

const casesOf = (places: readonly Place[], write: (place: Place) => string): string =>
  places.map((place) => `    ${quoted(place.path.replaceAll(' ', ':'))}) ${write(place)} ;;`).join('\n');

const valuesOf = (places: readonly Place[]): string =>
  places
    .flatMap(({ path, values }) =>
      Object.entries(values).map(
        ([option, known]) =>
          `    ${quoted(`${path.replaceAll(' ', ':')} ${option}`)}) words=(${known.map(quoted).join(' ')}) ;;`,
      ),
    )
    .join('\n');

/** For GNU Bash 4 and later (its manual, *Programmable Completion*). */
function forBash(places: readonly Place[]): string {
  return `_tessarion() {
  local all=${quoted(commandsOf(places))}
  local current="\${COMP_WORDS[COMP_CWORD]}" before="\${COMP_WORDS[COMP_CWORD-1]}" words=()
  local given=("\${COMP_WORDS[@]:1:COMP_CWORD-1}")
${LEADING}
  case "$place" in
${casesOf(places, ({ follows }) => `words=(${follows.map(({ word }) => quoted(word)).join(' ')})`)}
  esac
  case "$place $before" in
${valuesOf(places)}
  esac
  mapfile -t COMPREPLY < <(compgen -W "\${words[*]}" -- "$current")
}
complete -o default -F _tessarion tessarion
`;
}

/** For zsh 5 and later (its manual, *Completion System*). */
function forZsh(places: readonly Place[]): string {
  const described = ({ follows }: Place): string =>
    follows.map(({ word, means }) => quoted(`${word}:${means.replaceAll(':', '\\:')}`)).join(' ');
  return `#compdef tessarion
_tessarion() {
  local all=${quoted(commandsOf(places))}
  local before="\${words[CURRENT-1]}"
  local -a given=("\${(@)words[2,CURRENT-1]}") described=() known=()
${LEADING}
  case "$place $before" in
${valuesOf(places).replaceAll(') words=(', ') known=(')}
  esac
  if (( \${#known} )); then compadd -a known; return; fi
  case "$place" in
${casesOf(places, (place) => `described=(${described(place)})`)}
  esac
  _describe 'tessarion' described || _files
}
compdef _tessarion tessarion
`;
}

/** For fish 3 and later (its manual, *complete*). */
function forFish(places: readonly Place[]): string {
  const lines = places.flatMap(({ path, follows, values }) =>
    follows.map(({ word, means }) => {
      const isOption = word.startsWith('--');
      const known = values[word] ? ` -x -a ${quoted(values[word].join(' '))}` : '';
      const what = isOption ? `-l ${word.slice(2)}${known}` : `-f -a ${quoted(word)}`;
      return `complete -c tessarion -n ${quoted(`__tessarion_is ${quoted(path)}`)} ${what} -d ${quoted(means)}`;
    }),
  );
  return `function __tessarion_is
  set -l commands ${places.map(({ path }) => quoted(path)).join(' ')}
  set -l path ''
  for word in (commandline -opc)[2..-1]
    set -l next (string trim -- "$path $word")
    contains -- $next $commands; and set path $next; or break
  end
  test "$path" = "$argv[1]"
end
${lines.join('\n')}
`;
}

const SHELLS = { bash: forBash, zsh: forZsh, fish: forFish } as const;

/**
 * What shells need to complete commands and options; made from the program itself.
 *
 * @param addAll adds what a run of this command alone has left out
 */
export function addCompletion(program: Command, addAll: (program: Command) => Promise<void>): void {
  examples(
    program
      .command('completion')
      .addArgument(new Argument('<shell>', 'the shell to complete in').choices(Object.keys(SHELLS)))
      .description('print what a shell needs to complete commands and options'),
    'tessarion completion bash > ~/.local/share/bash-completion/completions/tessarion',
    'tessarion completion fish > ~/.config/fish/completions/tessarion.fish',
  ).action(async (shell: keyof typeof SHELLS) => {
    await addAll(program);
    print(SHELLS[shell](placesOf(program)).trimEnd());
  });
}
