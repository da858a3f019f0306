import type { Attached } from './contents.ts';
import { type MessageDraft, type MessageFinding, messageFindings } from './finding.ts';

/** What runs when it is opened, on one system or another. */
const PROGRAMS = new Set(
  `exe com scr pif bat cmd msi msp msc cpl dll sys jar js jse vbs vbe wsf wsh ps1 psm1 hta lnk reg inf scf chm app dmg pkg deb rpm apk sh py pl
   iso img vhd vhdx one url ade adp mde xll gadget application appx msix`.split(/\s+/),
);
const WITH_MACROS = new Set('docm dotm xlsm xltm xlam xlsb pptm potm ppam ppsm sldm'.split(' '));
const ARCHIVES = new Set('zip rar 7z tar gz tgz bz2 xz zst cab ace arj lzh z'.split(' '));
const DOCUMENTS = new Set(
  'pdf doc docx xls xlsx ppt pptx odt ods odp rtf txt csv ics vcf jpg jpeg png gif webp svg heic tif tiff bmp mp3 mp4 mov eml html htm'.split(
    ' ',
  ),
);

export type FileKind = 'program' | 'macros' | 'archive' | 'document' | 'other';

/** What a file is by the end of its name. */
export function fileKind(name: string): FileKind {
  const ending = endingsOf(name).at(-1) ?? '';
  if (PROGRAMS.has(ending)) return 'program';
  if (WITH_MACROS.has(ending)) return 'macros';
  if (ARCHIVES.has(ending)) return 'archive';
  return DOCUMENTS.has(ending) ? 'document' : 'other';
}

/** Without what some systems leave out at the end of a name. */
const endingsOf = (name: string): string[] =>
  name
    .toLowerCase()
    .slice(-200)
    .replace(/[\s.]+$/, '')
    .split('.')
    .slice(1)
    .map((one) => one.trim());

/** What receivers turn away by its kind. */
export function attachmentFindings(attached: readonly Attached[]): MessageFinding[] {
  const of = (kind: FileKind): string[] => attached.filter((one) => fileKind(one.name) === kind).map((one) => one.name);
  const [disguised, plain] = [[] as string[], [] as string[]];
  for (const name of of('program')) (DOCUMENTS.has(endingsOf(name).at(-2) ?? '') ? disguised : plain).push(name);
  const drafts = (
    [
      {
        code: 'attachments-two-endings',
        headline: 'A program is named like a document.',
        seen: disguised,
        remedy: 'Remove it, and find out where it came from.',
      },
      {
        code: 'attachments-program',
        headline: 'A program is attached.',
        seen: plain,
        remedy: 'Upload it, and send a link.',
      },
      {
        code: 'attachments-macros',
        headline: 'A document with macros is attached.',
        seen: of('macros'),
        remedy: 'Save it without macros, or as PDF.',
      },
      {
        code: 'attachments-archive',
        headline: 'An archive is attached.',
        seen: of('archive'),
        remedy: 'Attach its files without an archive.',
      },
    ] satisfies MessageDraft<'attachments'>[]
  ).filter((one) => one.seen.length > 0);
  if (drafts.length > 0) return messageFindings('attachments', drafts);
  return messageFindings('attachments', [
    {
      code: 'attachments-good',
      headline: attached.length === 0 ? 'Nothing is attached.' : `The attachments are of harmless types (${attached.length}).`,
      seen: attached.map((one) => (one.name === '' ? one.type : one.name)),
    },
  ]);
}
