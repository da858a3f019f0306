import type { Command, Option } from 'commander';
import { CommandError, EXIT } from './errors.ts';
import { choice } from './numbers.ts';
import { say } from './output.ts';

export const SHELLS = ['bash', 'zsh', 'fish'] as const;
export type Shell = (typeof SHELLS)[number];

interface Word {
  path: string;
  verbs: { name: string; note: string }[];
  options: { name: string; note: string; choices: readonly string[] }[];
}

const plain = (text: string): string => text.replace(/[`"$\\]/g, '').replaceAll("'", '’');

/** Without those that are none for people. */
const shownOf = (command: Command): Command[] => {
  const visible = new Set(command.createHelp().visibleCommands(command));
  return command.commands.filter((one) => visible.has(one));
};

/** Every command with the words that may follow it. */
function wordsOf(command: Command, path = command.name()): Word[] {
  const verbs = shownOf(command).map((one) => ({ name: one.name(), note: plain(one.description()) }));
  const options = command.options.map((one: Option) => ({
    name: one.long ?? one.flags,
    note: plain(one.description),
    choices: one.argChoices ?? [],
  }));
  return [
    { path, verbs, options: [...options, { name: '--help', note: 'how it is used', choices: [] }] },
    ...shownOf(command).flatMap((one) => wordsOf(one, `${path} ${one.name()}`)),
  ];
}

/** The script that a shell reads to complete our commands, made from the commands themselves. */
export function completionScript(program: Command, shell: Shell): string {
  const words = wordsOf(program);
  if (shell === 'fish') return fish(words);
  return shell === 'bash' ? bash(words) : `#compdef tenedor\nautoload -U +X bashcompinit && bashcompinit\n${bash(words)}`;
}

function bash(words: readonly Word[]): string {
  const cases = words.map(
    ({ path, verbs, options }) =>
      `    '${path}') words='${[...verbs.map((one) => one.name), ...options.map((one) => one.name)].join(' ')}' ;;`,
  );
  const values = words.flatMap(({ path, options }) =>
    options.filter((one) => one.choices.length > 0).map((one) => `    '${path} ${one.name}') words='${one.choices.join(' ')}' ;;`),
  );
  return `_tenedor() {
  local path=tenedor word words='' current="\${COMP_WORDS[COMP_CWORD]}" before="\${COMP_WORDS[COMP_CWORD-1]}"
  for word in "\${COMP_WORDS[@]:1:COMP_CWORD-1}"; do
    case " $(_tenedor_paths) " in *" \${path// /.}.$word "*) path="$path $word" ;; esac
  done
  case "$path" in
${cases.join('\n')}
  esac
  case "$path $before" in
${values.join('\n')}
  esac
  COMPREPLY=( $(compgen -W "$words" -- "$current") )
}
_tenedor_paths() { echo '${words.map((one) => one.path.replaceAll(' ', '.')).join(' ')}'; }
complete -F _tenedor tenedor`;
}

function fish(words: readonly Word[]): string {
  const lines = ['complete -c tenedor -f'];
  for (const { path, verbs, options } of words) {
    const parts = path.split(' ').slice(1);
    const here = parts.map((one) => `__fish_seen_subcommand_from ${one}`).join('; and ') || '__fish_use_subcommand';
    const notYet =
      verbs.length > 0 && parts.length > 0 ? `; and not __fish_seen_subcommand_from ${verbs.map((one) => one.name).join(' ')}` : '';
    for (const { name, note } of verbs) lines.push(`complete -c tenedor -n '${here}${notYet}' -a ${name} -d '${note}'`);
    for (const { name, note, choices } of options)
      if (name.startsWith('--'))
        lines.push(
          `complete -c tenedor -n '${here}' -l ${name.slice(2)} -d '${note}'${choices.length > 0 ? ` -x -a '${choices.join(' ')}'` : ''}`,
        );
  }
  return lines.join('\n');
}

/** A manual page in the form that man reads, made from the commands themselves. */
export function manualPage(program: Command, version: string): string {
  const text = (line: string): string => line.replaceAll('\\', '\\e').replaceAll('-', '\\-').replace(/^[.']/, '\\&$&');
  const leaves = (command: Command, path: string): [string, Command][] =>
    command.commands.length === 0
      ? [[path, command]]
      : [
          ...(command.registeredArguments.length > 0 ? [[path, command] as [string, Command]] : []),
          ...shownOf(command).flatMap((one) => leaves(one, `${path} ${one.name()}`)),
        ];
  return [
    `.TH TENEDOR 1 "" "Tenedor ${text(version)}"`,
    '.SH NAME',
    `tenedor \\- ${text('a mail server for hosting providers, and the commands that run it')}`,
    '.SH SYNOPSIS',
    '.B tenedor',
    text('[--json] [--utc] NOUN VERB …'),
    '.SH OPTIONS',
    ...program.options.flatMap((one) => ['.TP', `.B ${text(one.flags)}`, text(one.description)]),
    '.SH COMMANDS',
    ...program.commands
      .flatMap((one) => leaves(one, one.name()))
      .flatMap(([path, command]) => [
        '.TP',
        `.B ${text(`${path} ${command.usage().replace('[options]', '').replace('[command]', '').trim()}`.trim())}`,
        text(command.description()),
        ...command.options.flatMap((one) => ['.RS', '.TP', `.B ${text(one.flags)}`, text(one.description), '.RE']),
      ]),
    '.SH EXIT STATUS',
    ...(
      [
        [EXIT.done, 'done'],
        [EXIT.notGood, 'the answer is “not good”'],
        [EXIT.usage, 'wrong usage'],
        [EXIT.refused, 'the service said no'],
        [EXIT.unreachable, 'the service can’t be reached'],
        [EXIT.exists, 'it exists already'],
        [EXIT.unwritten, 'the result could not be written'],
      ] as const
    ).flatMap(([code, words]) => ['.TP', `.B ${code}`, text(words)]),
  ].join('\n');
}

export function shellCommands(program: Command, version: string): void {
  program
    .command('completion')
    .description('print a script that lets a shell complete these commands, like: source <(tenedor completion --shell bash)')
    .addOption(choice('--shell <name>', 'which shell (default: your $SHELL)', SHELLS))
    .action(({ shell }: { shell?: Shell }) => {
      const own = SHELLS.find((one) => process.env['SHELL']?.endsWith(`/${one}`));
      const chosen = shell ?? own;
      if (chosen === undefined)
        throw new CommandError(EXIT.usage, '$SHELL names none that is known.', `Name one: --shell ${SHELLS.join(', --shell ')}`);
      say(completionScript(program, chosen));
    });
  program
    .command('manual')
    .description('print the manual page, like: tenedor manual | man -l -')
    .action(() => say(manualPage(program, version)));
}
