import { firstField } from '../mime/header.ts';
import { parameter, readParametrised } from '../mime/parameters.ts';
import { type Part, readMime } from '../mime/reader.ts';
import { decoded, transferDecoded } from '../mime/words.ts';
import { type HtmlText, readHtml } from './html.ts';

/** So much of each text is read; in octets. */
const MOST_READ = 512 * 1024;

/** Something that is attached, or shown in the text. */
export interface Attached {
  /** As it calls itself; empty where it has no name. */
  name: string;
  /** `application/pdf` */
  type: string;
}

/** What a message holds, as it is scored. */
export interface Contents {
  root: Part;
  /** Every part, each before those in it. */
  parts: Part[];
  plain: string | null;
  html: HtmlText | null;
  /** Octets of the HTML. */
  htmlSize: number;
  attached: Attached[];
}

/** Reads a message once. Of the texts the first of each kind counts, as mail programs show it. */
export function readContents(text: Buffer): Contents {
  const root = readMime(text);
  const parts: Part[] = [];
  const gather = (part: Part): void => {
    parts.push(part);
    for (const child of part.children) gather(child);
    // What was forwarded is another message's text.
  };
  gather(root);
  const leaves = parts.filter((one) => one.children.length === 0);
  const shown = leaves.filter((one) => !isAttached(one));
  const plain = shown.find((one) => one.type === 'text' && one.subtype === 'plain');
  const html = shown.find((one) => one.type === 'text' && one.subtype === 'html');
  return {
    root,
    parts,
    plain: plain ? lettersOf(text, plain) : null,
    html: html ? readHtml(lettersOf(text, html)) : null,
    htmlSize: html ? html.end - html.bodyStart : 0,
    attached: leaves
      .filter((one) => isAttached(one) || one.type !== 'text')
      .map((one) => ({ name: nameOf(one), type: `${one.type}/${one.subtype}` })),
  };
}

function lettersOf(text: Buffer, part: Part): string {
  const octets = transferDecoded(text.subarray(part.bodyStart, Math.min(part.end, part.bodyStart + MOST_READ)), part.encoding);
  return octets === null ? '' : decoded(octets, parameter(part.contentType, 'charset', decoded));
}

const dispositionOf = (part: Part) => readParametrised(firstField(part.fields, 'content-disposition') ?? '');

const isAttached = (part: Part): boolean => dispositionOf(part).value.toLowerCase() === 'attachment' || nameOf(part) !== '';

/** RFC 2183 §2.3; the older place is the name of the type. */
const nameOf = (part: Part): string =>
  (parameter(dispositionOf(part), 'filename', decoded) ?? parameter(part.contentType, 'name', decoded) ?? '').trim();
