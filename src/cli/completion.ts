import type { Command } from 'commander';
import { candidates } from './candidates.ts';
import type { ApiClient } from './client.ts';
import { CommandError, EXIT, EXIT_WORDS } from './errors.ts';
import { GROUPS } from './groups.ts';
import { choice } from './numbers.ts';
import { say } from './output.ts';

export const SHELLS = ['bash', 'zsh', 'fish'] as const;
export type Shell = (typeof SHELLS)[number];

const SCRIPTS: Record<Shell, string> = {
  // Bash breaks words at @, : and =; what it puts in stands behind the last of them.
  bash: `_tenedor() {
  local line="\${COMP_LINE:0:COMP_POINT}" words word list=() IFS=$' \\t\\n'
  read -ra words <<< "$line"
  [[ "$line" == *[[:space:]] ]] && words+=("")
  word="\${words[-1]}"
  mapfile -t list < <("\${words[0]}" complete -- "\${words[@]:1}" 2>/dev/null)
  COMPREPLY=()
  if [[ "\${list[0]}" == :files ]]; then
    compopt -o filenames
    mapfile -t COMPREPLY < <(compgen -f -- "$word")
    return
  fi
  local kept="\${word%"\${word##*[@:=]}"}" one
  for one in "\${list[@]}"; do
    one="\${one%%$'\\t'*}"
    COMPREPLY+=("$(printf %q "\${one#"$kept"}")")
  done
}
complete -F _tenedor tenedor`,
  zsh: `#compdef tenedor
_tenedor() {
  local -a list names notes
  list=("\${(@f)$("\${words[1]}" complete -- "\${(@)words[2,CURRENT]}" 2>/dev/null)}")
  if [[ "\${list[1]}" == :files ]]; then _files; return; fi
  local one
  for one in "\${list[@]}"; do
    [[ -n "$one" ]] || continue
    names+=("\${one%%$'\\t'*}"); notes+=("\${one/$'\\t'/  }")
  done
  compadd -l -d notes -a names
}
if [[ "\${funcstack[1]}" == _tenedor ]]; then
  _tenedor "$@"
else
  (( $+functions[compdef] )) || { autoload -Uz compinit && compinit; }
  compdef _tenedor tenedor
fi`,
  fish: `function __tenedor
  set -l list (eval (commandline -opc)[1] complete -- (string escape -- (commandline -opc)[2..] (commandline -ct)) 2>/dev/null)
  if test "$list[1]" = :files
    __fish_complete_path (commandline -ct)
  else
    printf '%s\\n' $list
  end
end
complete -c tenedor -f -a '(__tenedor)'`,
};

/** Without those that are none for people. */
const shownOf = (command: Command): Command[] => {
  const visible = new Set(command.createHelp().visibleCommands(command));
  return command.commands.filter((one) => visible.has(one));
};

const FILES: readonly (readonly [string, string])[] = [
  ['/etc/tenedor/tenedor.toml', 'the configuration of the service, as “setup” writes it'],
  ['/var/lib/tenedor', 'its data: database, messages and key file'],
  ['~/.config/tenedor/client.json', 'your sign-ins, with a token for each; readable only by you'],
];
const ENVIRONMENT: readonly (readonly [string, string])[] = [
  ['TENEDOR_URL, TENEDOR_TOKEN', 'the service and the token to use, instead of a sign-in'],
  ['TENEDOR_CLIENT', 'another file for sign-ins'],
  ['TENEDOR_DEBUG', 'conversations that the service writes to its log, such as smtp,delivery'],
  ['NO_COLOR', 'any value: no colours'],
];
const MANUAL_EXAMPLES: readonly (readonly [string, string])[] = [
  ['tenedor status', 'what needs attention'],
  ['tenedor domain add shop.example --customer Shop', 'add a domain'],
  ['tenedor records shop.example', 'the DNS records that it should publish'],
  ['tenedor check shop.example', 'what is wrong with its DNS, and how to fix it'],
  ['tenedor traffic --search ana@shop.example', 'find messages'],
];

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
  const entry = (path: string, command: Command): string[] => [
    '.TP',
    `.B ${text(`${path} ${command.usage().replace('[options]', '').replace('[command]', '').trim()}`.trim())}`,
    text(command.description()),
    ...command.options.flatMap((one) => ['.RS', '.TP', `.B ${text(one.flags)}`, text(one.description), '.RE']),
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
    ...Object.entries(GROUPS).flatMap(([group, names]) => [
      `.SS ${text(group.replace(/:$/, ''))}`,
      ...shownOf(program)
        .filter((one) => names.includes(one.name()))
        .flatMap((one) => leaves(one, one.name()))
        .flatMap(([path, command]) => entry(path, command)),
    ]),
    '.SH EXIT STATUS',
    ...EXIT_WORDS.flatMap(([code, words]) => ['.TP', `.B ${code}`, text(words)]),
    '.SH FILES',
    ...FILES.flatMap(([path, words]) => ['.TP', `.I ${text(path)}`, text(words)]),
    '.SH ENVIRONMENT',
    ...ENVIRONMENT.flatMap(([name, words]) => ['.TP', `.B ${text(name)}`, text(words)]),
    '.SH EXAMPLES',
    ...MANUAL_EXAMPLES.flatMap(([command, words]) => ['.TP', `.B ${text(command)}`, text(words)]),
  ].join('\n');
}
export function shellCommands(program: Command, version: string, client: ApiClient, chooseDemo: () => void): void {
  program
    .command('completion')
    .description('print a completion script for a shell, for example: source <(tenedor completion --shell bash)')
    .addOption(choice('--shell <name>', 'which shell (default: your $SHELL)', SHELLS))
    .action(({ shell }: { shell?: Shell }) => {
      const own = SHELLS.find((one) => process.env['SHELL']?.endsWith(`/${one}`));
      const chosen = shell ?? own;
      if (chosen === undefined)
        throw new CommandError(EXIT.usage, 'The shell named in $SHELL is not supported.', `Name one: --shell ${SHELLS.join(', --shell ')}`);
      say(SCRIPTS[chosen]);
    });
  // What the scripts ask at each press of the key: a line for each word that may come next.
  program
    .command('complete', { hidden: true })
    .argument('[words...]')
    .allowUnknownOption()
    .action(async (words: string[]) => {
      if (words.includes('--demo')) chooseDemo();
      const at = words.indexOf('--at');
      if (at >= 0 && at < words.length - 2) client.signIn = words[at + 1];
      const found = await candidates(program, words, client);
      say(found === 'files' ? ':files' : found.map(({ word, note }) => (note === '' ? word : `${word}\t${note}`)).join('\n'));
    });
  program
    .command('manual')
    .description('print the manual page; read it with: tenedor manual | man -l -')
    .action(() => say(manualPage(program, version)));
}
