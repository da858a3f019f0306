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
    ...(lost.length > 0 ? [`${count(lost.length, 'text')} ${lost.length === 1 ? 'is' : 'are'} missing`] : []),
    ...(removed.length > 0 ? [`${count(removed.length, 'older one')} ${removed.length === 1 ? 'was' : 'were'} removed`] : []),
  ];
  const bucket =
    mirrored === null
      ? ''
      : 'fault' in mirrored
        ? ` The copy in ${mirrored.to} failed: ${mirrored.fault}`
        : ` ${mirrored.to.replace(/^t/, 'T')} has a copy: ${count(mirrored.put, 'object')} sent (${mib(mirrored.octets)}).`;
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
      ? `The database opens, its counters agree, and all ${count(texts, 'text')} match their checksums.`
      : faults.join(' '),
});

/** Names of the first, and how many more there are. */
const some = (names: readonly string[]): string => names.slice(0, 3).join(', ') + (names.length > 3 ? ` and ${names.length - 3} more` : '');

export function integrityWords({ database, texts, lost, miscounted, unneeded }: Integrity, isRepairing: boolean): Outcome {
  const back = lost.filter((one) => one.isBack).length;
  const left = lost.filter((one) => !one.isBack);
  const inBackup = left.filter((one) => one.isInBackup).length;
  const { mailboxes, domains } = miscounted;
  const wrong = [
    ...database.map((one) => `${one} Restore it from a backup.`),
    ...(left.length === 0
      ? []
      : [
          `${count(left.length, 'text')} ${left.length === 1 ? 'is' : 'are'} gone or damaged: ${some(left.map((one) => `${one.file.slice(0, 12)}…`))}${inBackup > 0 ? `; a backup has ${inBackup} of them: tenedor integrity repair` : ''}.`,
        ]),
    ...(mailboxes.length + domains.length === 0 || isRepairing
      ? []
      : [
          `Usage counters are wrong for ${some([...mailboxes.map((one) => one.address), ...domains.map((one) => one.name)])}: tenedor integrity repair`,
        ]),
  ];
  const mended = [
    ...(back > 0 ? [`${count(back, 'text')} ${back === 1 ? 'was' : 'were'} fetched from the backups`] : []),
    ...(isRepairing && mailboxes.length + domains.length > 0
      ? [`usage was recounted for ${some([...mailboxes.map((one) => one.address), ...domains.map((one) => one.name)])}`]
      : []),
  ];
  const looked = `The database, ${count(texts, 'text')} and the counters were verified.`;
  const also = unneeded > 0 ? ` ${count(unneeded, 'file')} no longer needed will be removed.` : '';
  const did = mended.length > 0 ? ` Mended: ${mended.join('; ')}.` : '';
  return {
    name: null,
    isGood: wrong.length === 0,
    outcome: `${wrong.length === 0 ? `${looked} No problems found.` : wrong.join(' ')}${did}${also}`,
  };
}
