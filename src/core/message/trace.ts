import { fieldsNamed, parseFields } from './fields.ts';

/** RFC 5322 §3.3 date-time, always in UTC. */
export function mailDate(at: number): string {
  return new Date(at).toUTCString().replace('GMT', '+0000');
}

export interface TraceFacts {
  helo: string;
  clientAddress: string;
  hostName: string;
  /** RFC 3848 and RFC 6531 §4.3: ESMTP, ESMTPS, UTF8SMTPSA … */
  protocol: string;
  /** The journey's id, so that a header leads back to the journal. */
  id: string;
  at: number;
}

/** The Received field (RFC 5321 §4.4). The client's own words are reduced to harmless characters first. */
export function receivedField(facts: TraceFacts): string {
  const helo = facts.helo.replace(/[^A-Za-z0-9.:[\]_-]/g, '?').slice(0, 255);
  const address = facts.clientAddress.includes(':') ? `IPv6:${facts.clientAddress}` : facts.clientAddress;
  return (
    `Received: from ${helo} ([${address}])\r\n` +
    `\tby ${facts.hostName} with ${facts.protocol} id ${facts.id};\r\n` +
    `\t${mailDate(facts.at)}\r\n`
  );
}

/** Says that the message came for this address, which leads it on (RFC 9228 §3). */
export const deliveredToField = (address: string): string => `Delivered-To: ${address}\r\n`;

/** The addresses that have led the message on already, in lower case. */
export const deliveredTo = (message: Buffer): string[] =>
  fieldsNamed(parseFields(message), 'Delivered-To').map((field) =>
    field.value
      .trim()
      .replace(/^<(.*)>$/, '$1')
      .toLowerCase(),
  );

/** The message without its first fields, as far as they have these names (in lower case) in that order. */
export function withoutFirstFields(message: Buffer, names: readonly string[]): Buffer {
  let at = 0;
  for (const name of names)
    if (message.toString('latin1', at, at + name.length + 1).toLowerCase() === `${name}:`) {
      let end = at;
      // A line that begins with a blank goes on with the field (RFC 5322 §2.2.3).
      do end = message.indexOf('\r\n', end) + 2;
      while (end > 1 && (message[end] === 0x20 || message[end] === 0x09));
      if (end < 2) break;
      at = end;
    }
  return message.subarray(at);
}

/** The field that final delivery puts in front (RFC 5321 §4.4); it differs by recipient, so it is not in the shared file. */
export const returnPath = (sender: string | null): string => `Return-Path: <${sender ?? ''}>\r\n`;
