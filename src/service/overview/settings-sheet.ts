import makeCode from 'qrcode-generator';
import { parseAddress } from '../../core/address/mailbox-address.ts';
import {
  type ClientSetting,
  clientSettings,
  discoveryDocument,
  settingsCode,
  settingsLines,
  settingsPage,
} from '../../core/records/client-settings.ts';
import { findDomain } from '../../store/domains.ts';
import { SETTINGS_SHEET } from '../../texts/en/letters.ts';
import { badInput } from '../base/problem.ts';
import { isTaken, mailServerOf } from '../certificates/mail-server.ts';
import { requireDomain } from '../directory/domains.ts';
import { requireMailbox } from '../directory/mailboxes.ts';
import { mailNotice } from '../notices/mail-notice.ts';
import type { OverviewDeps } from './deps.ts';

/** What is typed into a mail program, in all forms in which it is handed on. */
export interface SettingsSheet {
  address: string;
  settings: ClientSetting[];
  text: string;
  /** HTML that can be printed. */
  page: string;
  /** SVG of the QR code. */
  code: string;
  /** What programs will complain of; null when they will not. */
  warning: string | null;
}

export function settingsSheet(context: OverviewDeps, address: string): SettingsSheet {
  const mailbox = requireMailbox(context, address);
  const settings = settingsOf(context, mailbox.domain);
  const [first] = settings;
  const lines = settingsLines(mailbox.address, settings);
  const qr = makeCode(0, 'M');
  qr.addData(settingsCode(mailbox.address, settings), 'Byte');
  qr.make();
  const code = qr.createSvgTag({ scalable: true, margin: 2 });
  return {
    address: mailbox.address,
    settings,
    text: `${lines.join('\n')}\n`,
    page: settingsPage(mailbox.address, settings, code),
    code,
    warning: !first
      ? 'No port for mail programs is open here.'
      : isTaken(context, first.server)
        ? null
        : `Programs will warn of the certificate of ${first.server}, or refuse it. See: tenedor certificate show ${first.server}`,
  };
}

/** Sends the settings to somebody; without a password, which is handed on in another way. */
export async function mailSettings(context: OverviewDeps, address: string, to: string): Promise<{ journey: string }> {
  const { address: own, text, settings } = settingsSheet(context, address);
  const parsed = parseAddress(to);
  if (parsed.kind === 'invalid')
    throw badInput('to', `“${to.slice(0, 80)}” is not an address: ${parsed.reason}.`, 'Write it like ana@shop.example.');
  if (settings.length === 0) throw badInput('address', 'No port for mail programs is open here.', 'Open one in the configuration.');
  const journey = await mailNotice(context, {
    to,
    subject: SETTINGS_SHEET.title(own),
    lines: [SETTINGS_SHEET.opening, '', ...text.trimEnd().split('\n'), '', SETTINGS_SHEET.first],
    domain: requireMailbox(context, address).domain,
  });
  if (journey === null) throw badInput('to', `Mail to ${to} cannot be delivered.`, 'Give another address.');
  return { journey };
}

/** The ways in of a domain's people. */
function settingsOf(context: OverviewDeps, domain: string): ClientSetting[] {
  return clientSettings(mailServerOf(context, requireDomain(context, domain)), context.host.services ?? {});
}

/** The document that programs ask a domain for; null for a domain whose mailboxes are not here. */
export function domainDiscovery(context: OverviewDeps, domain: string): string | null {
  const found = findDomain(context.db, domain);
  const meant = found?.twinOf ? findDomain(context.db, found.twinOf) : found;
  if (!found || meant?.role !== 'home') return null;
  const settings = settingsOf(context, meant.name);
  return settings.length === 0 ? null : discoveryDocument(found.name, settings);
}
