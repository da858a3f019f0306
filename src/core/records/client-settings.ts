import { SETTINGS_SHEET } from '../../texts/en/letters.ts';
import { CLIENT_SERVICES, type ClientService } from './sheet.ts';

/** What a mail program is told for one way in. */
export interface ClientSetting {
  service: ClientService;
  use: 'reading' | 'sending';
  protocol: 'IMAP' | 'POP3' | 'SMTP';
  server: string;
  port: number;
  security: 'TLS' | 'STARTTLS';
}

const KINDS: Record<ClientService, Pick<ClientSetting, 'use' | 'protocol' | 'security'>> = {
  imaps: { use: 'reading', protocol: 'IMAP', security: 'TLS' },
  imap: { use: 'reading', protocol: 'IMAP', security: 'STARTTLS' },
  pop3s: { use: 'reading', protocol: 'POP3', security: 'TLS' },
  pop3: { use: 'reading', protocol: 'POP3', security: 'STARTTLS' },
  submissions: { use: 'sending', protocol: 'SMTP', security: 'TLS' },
  submission: { use: 'sending', protocol: 'SMTP', security: 'STARTTLS' },
};

/** Every way in that is open, the best of each kind first: IMAP before POP3, TLS from the first octet before STARTTLS (RFC 8314 §3). */
export function clientSettings(server: string, services: Partial<Record<ClientService, number>>): ClientSetting[] {
  return (Object.keys(KINDS) as ClientService[]).flatMap((service) => {
    const port = services[service];
    return port === undefined || !(service in CLIENT_SERVICES) ? [] : [{ service, ...KINDS[service], server, port }];
  });
}

/** The first of each kind: what fits on a label, and in a QR code. */
export const bestSettings = (all: readonly ClientSetting[]): ClientSetting[] =>
  all.filter((one, at) => all.findIndex((other) => other.protocol === one.protocol) === at && one.protocol !== 'POP3');

const settingLine = (one: ClientSetting): string => SETTINGS_SHEET.line(one.protocol, one.port, one.security);

/** The settings of one mailbox in words, a line each. */
export function settingsLines(address: string, all: readonly ClientSetting[]): string[] {
  const lines = [SETTINGS_SHEET.address(address), SETTINGS_SHEET.password];
  for (const use of ['reading', 'sending'] as const) {
    const ways = all.filter((one) => one.use === use);
    if (ways.length === 0) continue;
    lines.push(
      '',
      `${SETTINGS_SHEET.uses[use]}: ${ways[0]?.server}`,
      ...ways.map((one, at) => `  ${at === 0 ? '' : `${SETTINGS_SHEET.or} `}${settingLine(one)}`),
    );
  }
  return lines;
}

/** What a QR code holds: as little as is needed, so that it is easily read. */
export const settingsCode = (address: string, all: readonly ClientSetting[]): string =>
  [address, ...bestSettings(all).map((one) => `${one.protocol} ${one.server}:${one.port} ${one.security}`)].join('\n');

/** A page that can be printed, or sent as a file; it needs nothing else. `code` is the QR code as SVG. */
export function settingsPage(address: string, all: readonly ClientSetting[], code: string): string {
  const rows = all.map(
    (one) =>
      `<tr><td>${SETTINGS_SHEET.uses[one.use]}</td><td>${one.protocol}</td><td>${escaped(one.server)}</td><td>${one.port}</td><td>${one.security}</td></tr>`,
  );
  return `<!doctype html>
<html lang="en">
<meta charset="utf-8">
<title>${SETTINGS_SHEET.title(escaped(address))}</title>
<style>
body { font: 12pt/1.5 system-ui, sans-serif; margin: 2cm auto; max-width: 17cm; padding: 0 1rem; color: #222; }
h1 { font-size: 18pt; overflow-wrap: anywhere; }
table { border-collapse: collapse; width: 100%; }
th, td { text-align: left; padding: .3rem .6rem .3rem 0; border-bottom: 1px solid #bbb; }
svg { width: 4cm; height: 4cm; display: block; margin-top: 1cm; }
</style>
<h1>${SETTINGS_SHEET.title(escaped(address))}</h1>
<p>${SETTINGS_SHEET.user(escaped(address))}</p>
<table>
<tr>${SETTINGS_SHEET.heads.map((one) => `<th>${one}</th>`).join('')}</tr>
${rows.join('\n')}
</table>
<p>${SETTINGS_SHEET.first}</p>
${code}
</html>
`;
}

/**
 * What mail programs ask a domain for over HTTPS (draft-ietf-mailmaint-autoconfig): servers in the order in which they are to be tried. The user name is
 * the address, which the program puts in itself, so that nobody learns here which addresses exist.
 */
export function discoveryDocument(domain: string, all: readonly ClientSetting[]): string {
  const server = (one: ClientSetting): string => {
    const tag = one.use === 'reading' ? 'incomingServer' : 'outgoingServer';
    return [
      `    <${tag} type="${one.protocol.toLowerCase()}">`,
      `      <hostname>${escaped(one.server)}</hostname>`,
      `      <port>${one.port}</port>`,
      `      <socketType>${one.security === 'TLS' ? 'SSL' : 'STARTTLS'}</socketType>`,
      '      <authentication>password-cleartext</authentication>',
      '      <username>%EMAILADDRESS%</username>',
      `    </${tag}>`,
    ].join('\n');
  };
  return [
    '<?xml version="1.0" encoding="UTF-8"?>',
    '<clientConfig version="1.1">',
    `  <emailProvider id="${escaped(domain)}">`,
    `    <domain>${escaped(domain)}</domain>`,
    `    <displayName>${escaped(domain)}</displayName>`,
    ...all.map(server),
    '  </emailProvider>',
    '</clientConfig>',
    '',
  ].join('\n');
}

const escaped = (text: string): string => text.replace(/[&<>"']/g, (one) => `&#${one.charCodeAt(0)};`);
