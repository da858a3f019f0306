import { type FormEvent, useState } from 'react';
import { useNavigate } from 'react-router';
import type { BackupContent, Transfer } from '../../src/api/transfer-schemas.ts';
import { call, useChange } from '../api.ts';
import { ProblemNote } from './blocks.tsx';
import { Check, Field, Form, FormEnd } from './forms.tsx';
import { count } from './words.ts';

/** Mail of one mailbox, or of all of a domain, out of a backup. */
export function RecoverForm({ backup, onClose }: { backup: string; onClose: () => void }) {
  const [whose, setWhose] = useState('');
  const [folder, setFolder] = useState('');
  const [into, setInto] = useState('');
  const [isWhole, setWhole] = useState(false);
  const navigate = useNavigate();
  const look = useChange<BackupContent>(() => call('GET', `/backups/content?${new URLSearchParams({ address: whose.trim(), backup })}`));
  const begin = useChange<Transfer>(
    () =>
      call('POST', '/transfers/recover', {
        backup,
        whose: whose.trim(),
        folder: folder === '' ? null : folder,
        into: into.trim() === '' ? null : into.trim(),
        isWhole,
      }),
    (one) => navigate(`/upkeep?tab=mail&transfer=${one.id}`),
  );
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    begin.mutate();
  };
  const isAddress = whose.includes('@');
  // Folders are those of the address that was looked at.
  const ask = (text: string): void => {
    setWhose(text);
    setFolder('');
    look.reset();
  };
  return (
    <Form problem={begin.error} onSubmit={submit}>
      <p className="soft mb-3 text-sm">
        Missing mail is restored into folders “Restored {backup}”, beside the existing mail. A removed mailbox is created again as it was.
      </p>
      <Field field="whose" label="Address or domain" hint="A domain restores all its mailboxes.">
        <input className="input w-full" required maxLength={320} value={whose} onChange={(event) => ask(event.target.value)} />
      </Field>
      {isAddress ? (
        <>
          <button type="button" className="btn btn-sm mb-3" disabled={look.isPending} onClick={() => look.mutate()}>
            See what the backup contains
          </button>
          {look.error ? <ProblemNote problem={look.error} /> : null}
          {look.data ? (
            <Field field="folder" label="Folder">
              <select className="select w-full" value={folder} onChange={(event) => setFolder(event.target.value)}>
                <option value="">all folders</option>
                {look.data.folders.map((one) => (
                  <option key={one.folder} value={one.folder}>
                    {one.folder}: {count(one.messages, 'message')}
                  </option>
                ))}
              </select>
            </Field>
          ) : null}
          <Field field="into" label="Into another mailbox" hint="Empty for its own.">
            <input className="input w-full" maxLength={320} value={into} onChange={(event) => setInto(event.target.value)} />
          </Field>
        </>
      ) : null}
      <Check label="Include messages it still has" value={isWhole} onChange={setWhole} />
      <FormEnd action="Restore" busy={begin.isPending} problem={begin.error} onCancel={onClose} />
    </Form>
  );
}
