import type { WrittenCommand } from './command-reader.ts';
import { COMMANDS } from './commands.ts';
import { bad, type Command, type Dialogue, type Ending, whyNotNow } from './dialogue.ts';
import { SyntaxFault, Tokens } from './tokens.ts';

export type Understood = { command: Command; asked: unknown; refused?: undefined } | { refused: Ending };

/** What a written command asks for, or why it can't be done as it stands. */
export const understand = ({ name, pieces }: WrittenCommand, dialogue: Dialogue): Understood => {
  const command = commandNamed(name);
  if (!command) return { refused: bad(name === '' ? 'A command is missing' : 'There is no such command') };
  const why = whyNotNow(dialogue, command.when);
  if (why !== null) return { refused: bad(why) };
  try {
    const tokens = new Tokens(pieces);
    if (!tokens.isAtEnd) tokens.space();
    return { command, asked: command.read(tokens, dialogue) };
  } catch (error) {
    if (error instanceof SyntaxFault) return { refused: bad(error.message) };
    throw error;
  }
};

export const commandNamed = (name: string): Command | undefined => (Object.hasOwn(COMMANDS, name) ? COMMANDS[name] : undefined);
