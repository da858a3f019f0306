import { FileUp } from 'lucide-react';
import { type DragEvent, useState } from 'react';
import type { ListsResult } from '../../src/api/mailbox-schemas.ts';
import type { ListName } from '../../src/core/vocabulary.ts';
import { call, part, useChange } from '../api.ts';
import { ProblemNote } from './blocks.tsx';
import { count } from './words.ts';

/** What a list holds, by its heading. */
const listOf = (csv: string): ListName => {
  const columns = (/^.*$/m.exec(csv)?.[0] ?? '')
    .toLowerCase()
    .split(/[,;\t]/)
    .map((one) => one.trim().replace(/^\uFEFF?"?|"$/g, ''));
  return columns.includes('address') ? 'mailboxes' : columns.includes('domain') ? 'domains' : 'customers';
};

/** A list as spreadsheets write it: UTF-8, UTF-16 with its mark, or the Western charset. */
async function listText(file: File): Promise<string> {
  const octets = new Uint8Array(await file.arrayBuffer());
  const [first, second] = octets;
  if (first === 0xff && second === 0xfe) return new TextDecoder('utf-16le').decode(octets);
  if (first === 0xfe && second === 0xff) return new TextDecoder('utf-16be').decode(octets);
  try {
    return new TextDecoder('utf-8', { fatal: true }).decode(octets);
  } catch {
    return new TextDecoder('windows-1252').decode(octets);
  }
}

/** Customers, domains and mailboxes from lists that are dropped or chosen, together or one by one: faults by their lines, or all of them, with their passwords to keep. */
export function LoadLists({ onClose }: { onClose: () => void }) {
  const [isOver, setOver] = useState(false);
  const [progress, setProgress] = useState<Pick<ListsResult, 'done' | 'total'> | null>(null);
  const load = useChange<ListsResult, Partial<Record<ListName, string>>>(async (lists) => {
    let now = await call<ListsResult>('POST', '/lists/load', lists);
    for (; !now.isOver; now = await call<ListsResult>('GET', `/lists/loads/${part(now.id)}`)) setProgress(now);
    return now;
  });
  const take = async (files: FileList | null): Promise<void> => {
    const texts = await Promise.all([...(files ?? [])].map(listText));
    if (texts.length > 0) load.mutate(Object.fromEntries(texts.map((text) => [listOf(text), text])));
  };
  const drop = (event: DragEvent): void => {
    event.preventDefault();
    setOver(false);
    take(event.dataTransfer.files).catch(() => {});
  };
  const result = load.data;
  return (
    <div className="space-y-3">
      <div className="soft space-y-1 text-sm">
        <p>CSV files with a heading line. Only the first column is required:</p>
        <ul className="space-y-1">
          <li>
            mailboxes: <code className="record-text">address,name,quota,password,hash,aliases</code>
          </li>
          <li>
            domains: <code className="record-text">domain,customer,plan,role,to</code>
          </li>
          <li>
            customers: <code className="record-text">customer,contact</code>
          </li>
        </ul>
        <p>Missing passwords are generated. Drop files that depend on each other together. Nothing is added unless every line is valid.</p>
      </div>
      <label
        className={`flex cursor-pointer flex-col items-center gap-2 rounded-box border-2 border-dashed p-6 text-center text-sm ${isOver ? 'border-primary' : 'border-base-300'}`}
        onDragOver={(event) => {
          event.preventDefault();
          setOver(true);
        }}
        onDragLeave={() => setOver(false)}
        onDrop={drop}
      >
        <FileUp size={24} aria-hidden="true" />
        {load.isPending
          ? `Loading${progress ? ` ${progress.done.toLocaleString('en')} of ${progress.total.toLocaleString('en')}` : ''} …`
          : 'Drop files here, or click to choose'}
        <input
          type="file"
          multiple
          accept=".csv,text/csv"
          className="sr-only"
          aria-label="Lists"
          onChange={(event) => {
            take(event.target.files).catch(() => {});
            event.target.value = '';
          }}
        />
      </label>
      {load.error ? <ProblemNote problem={load.error} /> : null}
      {result && result.faults.length > 0 ? (
        <div role="alert" className="max-h-64 overflow-y-auto text-sm">
          <p className="mb-1 font-medium">Nothing was added. Correct these lines, and drop the files again:</p>
          <ul className="space-y-1">
            {result.faults.map((one) => (
              <li key={`${one.list} ${one.line} ${one.text}`}>
                <span className="font-medium">
                  Line {one.line} of {one.list}:
                </span>{' '}
                {one.text}
              </li>
            ))}
          </ul>
        </div>
      ) : null}
      {result && result.faults.length === 0 ? (
        <div role="status" className="rounded-field bg-base-200 p-3 text-sm">
          <p>{addedWords(result.loaded)} added.</p>
          {result.passwords.length > 0 ? (
            <p className="mt-1">
              <a className="link" download="passwords.csv" href={passwordFile(result.passwords)}>
                Keep the {count(result.passwords.length, 'password')} that were generated
              </a>{' '}
              <span className="soft">(they are shown only now)</span>
            </p>
          ) : null}
        </div>
      ) : null}
      <div className="text-right">
        <button type="button" className="btn" onClick={onClose}>
          Done
        </button>
      </div>
    </div>
  );
}

const addedWords = ({ customers, domains, mailboxes }: ListsResult['loaded']): string =>
  [
    ...(customers > 0 ? [count(customers, 'customer')] : []),
    ...(domains > 0 ? [count(domains, 'domain')] : []),
    ...(mailboxes > 0 ? [count(mailboxes, 'mailbox', 'mailboxes')] : []),
  ].join(', ');

const passwordFile = (passwords: ListsResult['passwords']): string =>
  `data:text/csv;charset=utf-8,${encodeURIComponent(`address,password\n${passwords.map((one) => `${one.address},${one.password}\n`).join('')}`)}`;
