import { type ListedAddress, listedAddresses } from './addresses.ts';
import { firstField, type HeaderField, joinedFields } from './header.ts';
import { continued, type Parametrised, readParametrised } from './parameters.ts';
import type { Part } from './reader.ts';
import { nstring } from './wire.ts';

/** The envelope as IMAP sends it (RFC 3501 §7.4.2), octets kept as latin1. */
export function envelopeText(fields: readonly HeaderField[]): string {
  const from = addressesOf(fields, 'from');
  const orFrom = (name: string): ListedAddress[] => {
    const own = addressesOf(fields, name);
    return own.length > 0 ? own : from;
  };
  const lists = [from, orFrom('sender'), orFrom('reply-to'), ...['to', 'cc', 'bcc'].map((name) => addressesOf(fields, name))];
  return `(${[
    nstring(firstField(fields, 'date')),
    nstring(firstField(fields, 'subject')),
    ...lists.map(addressListText),
    nstring(firstField(fields, 'in-reply-to')),
    nstring(firstField(fields, 'message-id')),
  ].join(' ')})`;
}

export function addressesOf(fields: readonly HeaderField[], name: string): ListedAddress[] {
  const value = joinedFields(fields, name);
  return value === null ? [] : listedAddresses(value);
}

const addressListText = (list: readonly ListedAddress[]): string =>
  list.length === 0 ? 'NIL' : `(${list.map((one) => `(${[one.name, one.route, one.mailbox, one.host].map(nstring).join(' ')})`).join('')})`;

/** The structure of a message: with what may follow (BODYSTRUCTURE), or without (BODY) (RFC 3501 §7.4.2). */
export function structureText(part: Part, isExtended: boolean): string {
  const { fields, contentType } = part;
  const extension = isExtended
    ? ` ${[dispositionText(fields), languageText(fields), nstring(firstField(fields, 'content-location'))].join(' ')}`
    : '';
  if (part.children.length > 0) {
    const parameters = isExtended ? ` ${parametersText(contentType)}` : '';
    return `(${part.children.map((one) => structureText(one, isExtended)).join('')} ${nstring(part.subtype)}${parameters}${extension})`;
  }
  const basic = [
    nstring(part.type),
    nstring(part.subtype),
    // RFC 2045 §5.2: a text of which nothing is said.
    part.type === 'text' && contentType.parameters.length === 0 ? '("charset" "us-ascii")' : parametersText(contentType),
    nstring(firstField(fields, 'content-id')),
    nstring(firstField(fields, 'content-description')),
    nstring(part.encoding),
    String(part.end - part.bodyStart),
    ...(part.message ? [envelopeText(part.message.fields), structureText(part.message, isExtended), String(part.lines)] : []),
    ...(part.type === 'text' ? [String(part.lines)] : []),
    ...(isExtended ? [nstring(firstField(fields, 'content-md5'))] : []),
  ];
  return `(${basic.join(' ')}${extension})`;
}

const parametersText = ({ parameters: given }: Parametrised): string => {
  const parameters = continued(given);
  return parameters.length === 0 ? 'NIL' : `(${parameters.map(([name, value]) => `${nstring(name)} ${nstring(value)}`).join(' ')})`;
};

function dispositionText(fields: readonly HeaderField[]): string {
  const field = firstField(fields, 'content-disposition');
  if (field === null || field === '') return 'NIL';
  const disposition = readParametrised(field);
  return `(${nstring(disposition.value)} ${parametersText(disposition)})`;
}

function languageText(fields: readonly HeaderField[]): string {
  const tags = (firstField(fields, 'content-language') ?? '')
    .split(',')
    .map((one) => one.trim())
    .filter((one) => one !== '');
  return tags.length === 0 ? 'NIL' : tags.length === 1 ? nstring(tags[0] ?? null) : `(${tags.map(nstring).join(' ')})`;
}
