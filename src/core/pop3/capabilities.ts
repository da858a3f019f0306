/** What the server can do now (RFC 2449 §5). */
export function capabilitiesText({ secure, tlsOffered }: { secure: boolean; tlsOffered: boolean }): string {
  const capabilities = [
    'TOP',
    'UIDL',
    'RESP-CODES',
    'AUTH-RESP-CODE',
    'PIPELINING',
    'UTF8 USER',
    'LANG',
    ...(secure ? ['USER', 'SASL PLAIN'] : []),
    ...(tlsOffered && !secure ? ['STLS'] : []),
  ];
  return `+OK Capabilities\r\n${capabilities.join('\r\n')}\r\n.\r\n`;
}

/** Languages that its answers come in (RFC 6856 §3.1); the first is what nobody has to ask for. */
const LANGUAGES = [
  ['i-default', 'English'],
  ['en', 'English'],
] as const;

/** The answer to LANG (RFC 6856 §3): without an argument, what there is; an asterisk asks for what anybody gets. Null where there is no such language. */
export function languageAnswer(argument: string): string | null {
  if (argument === '') return `+OK Languages\r\n${LANGUAGES.map((one) => `${one.join(' ')}\r\n`).join('')}.\r\n`;
  const wanted = argument.trim().toLowerCase();
  const found = wanted === '*' ? LANGUAGES[0] : LANGUAGES.find(([tag]) => wanted === tag || wanted.startsWith(`${tag}-`));
  return found ? `+OK ${found.join(' ')}\r\n` : null;
}
