import { createInterface } from 'node:readline/promises';
import { CommandError, EXIT } from './errors.ts';

/** Asks for a yes on the terminal; without a terminal only `--yes` will do. */
export async function confirm(question: string, yes: boolean | undefined): Promise<void> {
  if (yes) return;
  if (!process.stdin.isTTY)
    throw new CommandError(
      EXIT.usage,
      'This command asks for confirmation, and there is no terminal to ask on.',
      'Run it again with --yes.',
    );
  const answer = await ask(`${question} Type yes to continue: `);
  if (answer.trim().toLowerCase() !== 'yes')
    throw new CommandError(EXIT.usage, 'Nothing was changed.', 'Type yes when asked, or use --yes.');
}

/** One line from the terminal. Ctrl-C stops the command, Ctrl-D is no answer. */
function ask(question: string): Promise<string> {
  const terminal = createInterface({ input: process.stdin, output: process.stderr });
  return new Promise((resolve, reject) => {
    terminal.on('SIGINT', () => {
      reject(stopped());
      process.stderr.write('\n');
      terminal.close();
    });
    terminal.on('close', () => resolve(''));
    terminal.question(question).then((answer) => {
      resolve(answer);
      terminal.close();
    }, reject);
  });
}

const stopped = (): CommandError =>
  new CommandError(EXIT.stopped, 'Cancelled. Nothing was changed.', 'Run the command again when you are ready.');

/** Reads a secret: from the terminal without showing it, else the first line of standard input. */
export async function askSecret(prompt: string): Promise<string> {
  if (!process.stdin.isTTY) {
    let text = '';
    for await (const piece of process.stdin) text += piece;
    return text.split(/\r?\n/)[0] ?? '';
  }
  process.stderr.write(prompt);
  process.stdin.setRawMode(true);
  let secret = '';
  try {
    for await (const piece of process.stdin) {
      for (const char of String(piece)) {
        if (char === '\r' || char === '\n') return secret;
        if (char === '\u0003' || char === '\u0004') throw stopped();
        if (char === '\u007f' || char === '\b') secret = secret.slice(0, -1);
        else secret += char;
      }
    }
  } finally {
    process.stdin.setRawMode(false);
    process.stdin.pause();
    process.stderr.write('\n');
  }
  return secret;
}
