import { createInterface } from 'node:readline/promises';
import { CommandError, EXIT } from './client.ts';

/** Asks for a yes on the terminal; without a terminal only `--yes` will do. */
export async function confirm(question: string, yes: boolean | undefined): Promise<void> {
  if (yes) return;
  if (!process.stdin.isTTY)
    throw new CommandError(EXIT.usage, 'This needs your consent, and there is no terminal to ask on.', 'Run it again with --yes.');
  const terminal = createInterface({ input: process.stdin, output: process.stderr });
  const answer = await terminal.question(`${question} Type yes to go on: `);
  terminal.close();
  if (answer.trim().toLowerCase() !== 'yes')
    throw new CommandError(EXIT.usage, 'Nothing was changed.', 'Type yes when asked, or use --yes.');
}

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
        if (char === '\u0003') throw new CommandError(EXIT.usage, 'Stopped.', 'Run the command again when you are ready.');
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
