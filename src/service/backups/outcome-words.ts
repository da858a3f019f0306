import type { Integrity } from '../../store/backup/check-integrity.ts';
import type { Verified } from '../../store/backup/verify-backup.ts';
import type { MadeBackup } from '../../store/backup/write-backup.ts';

/** What came of a backup, a proof or a look, in words. */
export interface Outcome {
  /** Of the backup. */
  name: string | null;
  isGood: boolean;
  outcome: string;
}

const mib = (octets: number): string => `${(octets / 1024 / 1024).toFixed(1)} MiB`;
const count = (number: number, one: string, more = `${one}s`): string => `${number.toLocaleString('en')} ${number === 1 ? one : more}`;

export function madeWords({ name, manifest, newTexts, newOctets, newInDatabase, removed, mirrored }: MadeBackup): Outcome {
  const { database, texts, lost } = manifest;
  const also = [
    ...(lost.length > 0 ? [`${count(lost.length, 'text')} that should be there ${lost.length === 1 ? 'is' : 'are'} not`] : []),
    ...(removed.length > 0 ? [`${count(removed.length, 'older one')} ${removed.length === 1 ? 'was' : 'were'} removed`] : []),
  ];
  const bucket =
    mirrored === null
      ? ''
      : 'fault' in mirrored
        ? ` But ${mirrored.to} does not hold it: ${mirrored.fault}`
        : ` ${mirrored.to.replace(/^t/, 'T')} holds it, too: ${count(mirrored.put, 'object')} sent (${mib(mirrored.octets)}).`;
  return {
    name,
    isGood: mirrored === null || !('fault' in mirrored),
    outcome: `A database of ${mib(database.size)} (${mib(newInDatabase)} of it new) and ${count(texts.count, 'text')}, ${newTexts} of them new (${mib(newOctets)})${also.map((one) => `; ${one}`).join('')}.${bucket}`,
  };
}

export const verifiedWords = ({ name, faults, texts }: Verified): Outcome => ({
  name,
  isGood: faults.length === 0,
  outcome:
    faults.length === 0
      ? `Whole: the database opens, its counts agree, and all ${count(texts, 'text')} are what was written.`
      : faults.join(' '),
});

/** Names of the first, and how many more there are. */
const some = (names: readonly string[]): string => names.slice(0, 3).join(', ') + (names.length > 3 ? ` and ${names.length - 3} more` : '');

export function integrityWords({ database, texts, lost, miscounted, unneeded }: Integrity, isMending: boolean): Outcome {
  const back = lost.filter((one) => one.isBack).length;
  const left = lost.filter((one) => !one.isBack);
  const inBackup = left.filter((one) => one.isInBackup).length;
  const { mailboxes, domains } = miscounted;
  const wrong = [
    ...database.map((one) => `${one} Restore it from a backup.`),
    ...(left.length === 0
      ? []
      : [
          `${count(left.length, 'text')} ${left.length === 1 ? 'is' : 'are'} gone or damaged: ${some(left.map((one) => `${one.file.slice(0, 12)}…`))}${inBackup > 0 ? `; a backup has ${inBackup} of them: tenedor integrity mend` : ''}.`,
        ]),
    ...(mailboxes.length + domains.length === 0 || isMending
      ? []
      : [
          `What is used is counted wrong for ${some([...mailboxes.map((one) => one.address), ...domains.map((one) => one.name)])}: tenedor integrity mend`,
        ]),
  ];
  const mended = [
    ...(back > 0 ? [`${count(back, 'text')} ${back === 1 ? 'was' : 'were'} fetched from the backups`] : []),
    ...(isMending && mailboxes.length + domains.length > 0
      ? [`what is used was counted anew for ${some([...mailboxes.map((one) => one.address), ...domains.map((one) => one.name)])}`]
      : []),
  ];
  const looked = `The database, ${count(texts, 'text')} and the counts were looked at.`;
  const also = unneeded > 0 ? ` ${count(unneeded, 'file')} that nothing needs will be swept away.` : '';
  const did = mended.length > 0 ? ` Mended: ${mended.join('; ')}.` : '';
  return {
    name: null,
    isGood: wrong.length === 0,
    outcome: `${wrong.length === 0 ? `${looked} All is well.` : wrong.join(' ')}${did}${also}`,
  };
}
