import { type FormEvent, useState } from 'react';
import type { Transfer } from '../../src/api/transfer-schemas.ts';
import { MAIL_FORMS, type MailForm } from '../../src/core/vocabulary.ts';
import { call, useChange } from '../api.ts';
import { Check, Field, Form, FormEnd } from './forms.tsx';
import { askedServer, or, ServerFields, useServer } from './server-fields.tsx';

const FORMS: Record<MailForm, string> = { mbox: 'one mbox a folder', eml: 'one file a message (.eml)' };

interface Props {
  onBegun: (one: Transfer) => void;
  onClose: () => void;
}

/** Mail from files of the server. */
export function ImportFilesForm({ onBegun, onClose }: Props) {
  const [path, setPath] = useState('');
  const [into, setInto] = useState('');
  const [folder, setFolder] = useState('');
  const begin = useChange<Transfer>(
    () => call('POST', '/transfers/import-files', { path: path.trim(), into: or(into), folder: or(folder) }),
    onBegun,
  );
  return (
    <Form problem={begin.error} onSubmit={submits(begin)}>
      <Field field="path" label="Path on the server" hint="An mbox, a message (.eml), a directory or tar archive of those, or an export.">
        <input
          className="input w-full"
          required
          placeholder="/srv/old/mail.mbox"
          value={path}
          onChange={(event) => setPath(event.target.value)}
        />
      </Field>
      <Field field="into" label="Mailbox" hint="Empty for an export of several mailboxes.">
        <input className="input w-full" value={into} onChange={(event) => setInto(event.target.value)} />
      </Field>
      <Field field="folder" label="Below this folder" hint="Empty: folders keep their names.">
        <input className="input w-full" value={folder} onChange={(event) => setFolder(event.target.value)} />
      </Field>
      <FormEnd action="Import" busy={begin.isPending} problem={begin.error} onCancel={onClose} />
    </Form>
  );
}

const submits =
  (change: { mutate: () => void }) =>
  (event: FormEvent): void => {
    event.preventDefault();
    change.mutate();
  };

/** After a change of MX records, so long: caches and queues elsewhere have let go by then. */
const QUIET_HOURS = 48;

/** Mail from another server. */
export function ImportImapForm({ onBegun, onClose }: Props) {
  const [server, setServer] = useServer();
  const [isRepeated, setRepeated] = useState(false);
  const [isTrial, setTrial] = useState(false);
  const begin = useChange<Transfer>(
    () => call('POST', '/transfers/import-imap', { ...askedServer(server), untilQuietHours: isRepeated ? QUIET_HOURS : 0, isTrial }),
    onBegun,
  );
  return (
    <Form problem={begin.error} onSubmit={submits(begin)}>
      <ServerFields server={server} onChange={setServer} example="pau, secret of Pau, pau@shop.example" />
      <Check label="Repeat every 15 minutes until nothing has arrived for two days" value={isRepeated} onChange={setRepeated} />
      <Check label="Trial run: sign in and count the messages" value={isTrial} onChange={setTrial} />
      <FormEnd action="Import" busy={begin.isPending} problem={begin.error} onCancel={onClose} />
    </Form>
  );
}

/** Mail and data out to files of the server. */
export function ExportForm({ onBegun, onClose }: Props) {
  const [what, setWhat] = useState('mailbox');
  const [name, setName] = useState('');
  const [path, setPath] = useState('');
  const [form, setForm] = useState<MailForm>('mbox');
  const [withHashes, setWithHashes] = useState(false);
  const isArchive = /\.(tar|tgz|tar\.gz)$/i.test(path.trim());
  const begin = useChange<Transfer>(
    () => call('POST', '/transfers/export', { what, name: name.trim(), path: path.trim(), form, isArchive, withHashes }),
    onBegun,
  );
  return (
    <Form problem={begin.error} onSubmit={submits(begin)}>
      <div className="grid gap-x-3 sm:grid-cols-[auto_1fr]">
        <Field field="what" label="What">
          <select className="select w-full" value={what} onChange={(event) => setWhat(event.target.value)}>
            <option value="mailbox">a mailbox</option>
            <option value="domain">a domain</option>
            <option value="customer">a customer</option>
          </select>
        </Field>
        <Field field="name" label="Its name">
          <input className="input w-full" required value={name} onChange={(event) => setName(event.target.value)} />
        </Field>
      </div>
      <Field field="path" label="Path on the server" hint="A new or empty directory, or an archive file (.tar or .tar.gz).">
        <input
          className="input w-full"
          required
          placeholder="/srv/exports/shop.tar.gz"
          value={path}
          onChange={(event) => setPath(event.target.value)}
        />
      </Field>
      <Field field="form" label="Mail as">
        <select className="select w-full" value={form} onChange={(event) => setForm(event.target.value as MailForm)}>
          {MAIL_FORMS.map((one) => (
            <option key={one} value={one}>
              {FORMS[one]}
            </option>
          ))}
        </select>
      </Field>
      <Check label="Include password hashes, for another server" value={withHashes} onChange={setWithHashes} />
      <FormEnd action="Export" busy={begin.isPending} problem={begin.error} onCancel={onClose} />
    </Form>
  );
}
