/** A value with its parameters: Content-Type, Content-Disposition (RFC 2045 §5.1, RFC 2183 §2), as octets kept as latin1. */
export interface Parametrised {
  /** Before the first semicolon, without comments. */
  value: string;
  /** In their order, names as written. */
  parameters: [name: string, value: string][];
}

const MOST_PARAMETERS = 100;
const TOKEN_END = /[\s;="()<>,]/;

/** Reads on through anything: what is broken gives what can be made of it. In one pass. */
export function readParametrised(text: string): Parametrised {
  const parameters: [string, string][] = [];
  let at = 0;
  const skip = (): void => {
    while (at < text.length) {
      if (/\s/.test(text.charAt(at))) at += 1;
      else if (text[at] === '(') at = afterComment(text, at);
      else return;
    }
  };
  const until = (isEnd: (letter: string) => boolean): string => {
    const start = at;
    while (at < text.length && !isEnd(text.charAt(at))) at += 1;
    return text.slice(start, at);
  };
  skip();
  const word = (): string => until((letter) => letter === ';' || letter === '(' || letter === '/' || /\s/.test(letter));
  let value = word();
  // Comments may stand on both sides of the slash (RFC 2045 §5.1).
  skip();
  if (text[at] === '/') {
    at += 1;
    skip();
    value += `/${word()}`;
  }
  until((letter) => letter === ';');
  while (at < text.length && parameters.length < MOST_PARAMETERS) {
    at += 1;
    skip();
    const name = until((letter) => TOKEN_END.test(letter));
    skip();
    if (text[at] === '=' && name !== '') {
      at += 1;
      skip();
      if (text[at] === '"') {
        const [inner, end] = quoted(text, at);
        at = end;
        parameters.push([name, inner]);
      } else parameters.push([name, until((letter) => letter === ';' || letter === '(' || /\s/.test(letter))]);
    }
    until((letter) => letter === ';');
  }
  return { value, parameters };
}

/** A parameter's value with what RFC 2231 says of it: continued in parts (§3), in a charset (§4), or as encoded words, which many send. */
export function parameter({ parameters }: Parametrised, name: string, decode: (octets: Buffer, charset: string) => string): string | null {
  const pieces: { number: number; value: string; isCoded: boolean }[] = [];
  let plain: string | null = null;
  for (const [given, value] of parameters) {
    const found = /^([^*]+)(?:\*(\d{1,3}))?(\*)?$/.exec(given.toLowerCase());
    if (found?.[1] !== name) continue;
    if (found[2] === undefined && found[3] === undefined) plain ??= value;
    else pieces.push({ number: Number(found[2] ?? 0), value, isCoded: found[3] !== undefined });
  }
  if (pieces.length === 0) return plain;
  pieces.sort((one, other) => one.number - other.number);
  const first = pieces[0] as (typeof pieces)[number];
  const coded = /^([^']*)'[^']*'(.*)$/s.exec(first.value);
  const octets = pieces.map(({ value, isCoded }, place) => {
    const text = place === 0 && isCoded && coded ? (coded[2] ?? '') : value;
    return isCoded ? text.replace(/%([0-9a-f]{2})/gi, (_all, hex) => String.fromCharCode(Number.parseInt(hex, 16))) : text;
  });
  return decode(Buffer.from(octets.join(''), 'latin1'), (first.isCoded && coded?.[1]) || 'utf-8');
}

/**
 * Parameters with those that were continued in parts put together (RFC 2231 §6: so are the structures that IMAP gives). What has a charset keeps its
 * asterisk and its coding.
 */
export function continued(parameters: Parametrised['parameters']): Parametrised['parameters'] {
  const parts = new Map<string, { number: number; value: string; isCoded: boolean }[]>();
  const whole: Parametrised['parameters'] = [];
  for (const [given, value] of parameters) {
    const [, name = '', number, coded] = /^([^*]+)\*(\d{1,3})(\*)?$/.exec(given) ?? [];
    if (number === undefined) whole.push([given, value]);
    else {
      const known = parts.get(name.toLowerCase());
      if (!known) whole.push([name, '']);
      parts.set(name.toLowerCase(), [...(known ?? []), { number: Number(number), value, isCoded: coded !== undefined }]);
    }
  }
  return whole.map(([name, value]) => {
    const pieces = parts.get(name.toLowerCase());
    if (!pieces || value !== '') return [name, value];
    pieces.sort((one, other) => one.number - other.number);
    if (!pieces.some((one) => one.isCoded)) return [name, pieces.map((one) => one.value).join('')];
    return [`${name}*`, pieces.map((one) => (one.isCoded ? one.value : percentCoded(one.value))).join('')];
  });
}

/** RFC 2231 §7, attribute-char: all else as octets. */
const percentCoded = (text: string): string =>
  text.replace(/[^A-Za-z0-9!#$&+.^_`{|}~-]/g, (letter) => `%${letter.charCodeAt(0).toString(16).toUpperCase().padStart(2, '0')}`);

/** The text in quotes that begins there, and where it ends; without an end it goes to the end. */
export function quoted(text: string, from: number): [inner: string, end: number] {
  let inner = '';
  let at = from + 1;
  while (at < text.length && text[at] !== '"') {
    if (text[at] === '\\' && at + 1 < text.length) at += 1;
    inner += text.charAt(at);
    at += 1;
  }
  return [inner, Math.min(text.length, at + 1)];
}

/** Where the comment that begins there ends (RFC 5322 §3.2.2); comments may hold comments. */
export function afterComment(text: string, from: number): number {
  let depth = 0;
  for (let at = from; at < text.length; at += 1) {
    const letter = text[at];
    if (letter === '\\') at += 1;
    else if (letter === '(') depth += 1;
    else if (letter === ')') {
      depth -= 1;
      if (depth === 0) return at + 1;
    }
  }
  return text.length;
}
