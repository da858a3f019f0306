import { FileUp } from 'lucide-react';
import { type DragEvent, useState } from 'react';
import type { MailboxListResult } from '../../src/api/mailbox-schemas.ts';
import { call, useChange } from '../api.ts';
import { ProblemNote } from './blocks.tsx';
import { count } from './words.ts';

/** Many mailboxes from a list that is dropped or chosen: faults by their lines, or all of them, with their passwords to keep. */
export function LoadMailboxes({ onClose }: { onClose: () => void }) {
  const [isOver, setOver] = useState(false);
  const load = useChange<MailboxListResult, string>((csv) => call('POST', '/mailboxes/load', { csv }));
  const take = async (file: File | undefined): Promise<void> => {
    if (file) load.mutate(await file.text());
  };
  const drop = (event: DragEvent): void => {
    event.preventDefault();
    setOver(false);
    take(event.dataTransfer.files[0]).catch(() => {});
  };
  const result = load.data;
  return (
    <div className="space-y-3">
      <p className="soft text-sm">
        A CSV file whose first line names the columns: <code>address,quota,password,aliases</code>. Only the address is needed; a password
        that is left out is made. Nothing is added unless every line is right.
      </p>
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
        {load.isPending ? 'Loading …' : 'Drop the list here, or choose it'}
        <input
          type="file"
          accept=".csv,text/csv"
          className="sr-only"
          aria-label="List of mailboxes"
          onChange={(event) => {
            take(event.target.files?.[0]).catch(() => {});
            event.target.value = '';
          }}
        />
      </label>
      {load.error ? <ProblemNote problem={load.error} /> : null}
      {result && result.faults.length > 0 ? (
        <div role="alert" className="max-h-64 overflow-y-auto text-sm">
          <p className="mb-1 font-medium">Nothing was added. Mend these lines, and drop the list again:</p>
          <ul className="space-y-1">
            {result.faults.map((one) => (
              <li key={`${one.line} ${one.text}`}>
                <span className="font-medium">Line {one.line}:</span> {one.text}
              </li>
            ))}
          </ul>
        </div>
      ) : null}
      {result && result.loaded > 0 ? (
        <div role="status" className="rounded-field bg-base-200 p-3 text-sm">
          <p>{count(result.loaded, 'mailbox', 'mailboxes')} added.</p>
          {result.passwords.length > 0 ? (
            <p className="mt-1">
              <a className="link" download="passwords.csv" href={passwordFile(result.passwords)}>
                Keep the {count(result.passwords.length, 'password')} that were made
              </a>{' '}
              <span className="soft">(only now: they are shown once)</span>
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

const passwordFile = (passwords: MailboxListResult['passwords']): string =>
  `data:text/csv;charset=utf-8,${encodeURIComponent(`address,password\n${passwords.map((one) => `${one.address},${one.password}\n`).join('')}`)}`;
