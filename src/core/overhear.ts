/**
 * Hears a conversation, a line at a time, for whoever follows it. Passwords, and what stands for them, are never among what is heard; a message's text
 * is only counted.
 */
export type Overhear = (who: 'client' | 'server', line: string) => void;

/** What is heard in the place of a password. */
export const HIDDEN = '(hidden)';

/** What is heard in the place of a line that is no command: it may be a password that came in the wrong place. */
export const NOT_A_COMMAND = '(not a command)';

/** The longest line that is heard whole. */
const LONGEST = 1000;

/** Hears each of some lines. */
export function overhearLines(overhear: Overhear | undefined, who: 'client' | 'server', text: string): void {
  if (!overhear) return;
  for (const line of text.split('\n')) {
    const said = line.replace(/\r$/, '');
    if (said !== '') overhear(who, said.length > LONGEST ? `${said.slice(0, LONGEST)}…` : said);
  }
}
