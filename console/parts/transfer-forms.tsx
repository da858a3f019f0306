import { type FormEvent, useState } from 'react';
import type { Transfer } from '../../src/api/transfer-schemas.ts';
import { MAIL_FORMS, type MailForm } from '../../src/core/vocabulary.ts';
import { call, useChange } from '../api.ts';
import { Check, Field, FormEnd } from './forms.tsx';

const FORMS: Record<MailForm, string> = { mbox: 'one mbox a folder', eml: 'one file a message (.eml)' };

interface Props {
  onBegun: (one: Transfer) => void;
  onClose: () => void;
}

const or = (text: string): string | null => (text.trim() === '' ? null : text.trim());

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
    <form onSubmit={submits(begin)}>
      <Field
        label="Path on the server"
        hint="An mbox, a message (.eml), a folder or a tar archive of those, compressed or not; or an export."
      >
        <input
          className="input w-full"
          required
          placeholder="/srv/old/mail.mbox"
          value={path}
          onChange={(event) => setPath(event.target.value)}
        />
      </Field>
      <Field label="Mailbox" hint="Empty for an export of several: each goes to its own address.">
        <input className="input w-full" value={into} onChange={(event) => setInto(event.target.value)} />
      </Field>
      <Field label="Below this folder" hint="Empty: folders keep their names.">
        <input className="input w-full" value={folder} onChange={(event) => setFolder(event.target.value)} />
      </Field>
      <FormEnd action="Import" busy={begin.isPending} problem={begin.error} onCancel={onClose} />
    </form>
  );
}

const submits =
  (change: { mutate: () => void }) =>
  (event: FormEvent): void => {
    event.preventDefault();
    change.mutate();
  };

/** `user,password,address` or `user,address` in each line. */
export const accountsOf = (lines: string, hasMaster: boolean): { user: string; password: string | null; into: string }[] =>
  lines
    .split('\n')
    .map((line) => line.split(',').map((one) => one.trim()))
    .filter((parts) => parts.some((one) => one !== ''))
    .map((parts) => {
      const into = parts.at(-1) ?? '';
      if (parts.length === 1) return { user: into, password: null, into };
      if (parts.length === 2 && hasMaster) return { user: parts[0] ?? '', password: null, into };
      if (parts.length === 2) return { user: into, password: parts[0] ?? '', into };
      return { user: parts[0] ?? '', password: parts.slice(1, -1).join(','), into };
    });

/** After a change of MX records, so long: caches and queues elsewhere have let go by then. */
const QUIET_HOURS = 48;

/** Mail from another server. */
export function ImportImapForm({ onBegun, onClose }: Props) {
  const [host, setHost] = useState('');
  const [security, setSecurity] = useState('tls');
  const [lines, setLines] = useState('');
  const [master, setMaster] = useState('');
  const [masterPassword, setMasterPassword] = useState('');
  const [fingerprint, setFingerprint] = useState('');
  const [isRepeated, setRepeated] = useState(false);
  const begin = useChange<Transfer>(
    () =>
      call('POST', '/transfers/import-imap', {
        host: host.trim(),
        security,
        fingerprint: or(fingerprint),
        accounts: accountsOf(lines, master !== ''),
        untilQuietHours: isRepeated ? QUIET_HOURS : 0,
        master: master === '' ? null : { user: master, password: masterPassword },
      }),
    onBegun,
  );
  return (
    <form onSubmit={submits(begin)}>
      <div className="grid gap-x-3 sm:grid-cols-[1fr_auto]">
        <Field label="The other server">
          <input
            className="input w-full"
            required
            placeholder="mail.old.example"
            value={host}
            onChange={(event) => setHost(event.target.value)}
          />
        </Field>
        <Field label="Security">
          <select className="select w-full" value={security} onChange={(event) => setSecurity(event.target.value)}>
            <option value="tls">TLS, port 993</option>
            <option value="starttls">STARTTLS, port 143</option>
          </select>
        </Field>
      </div>
      <Field
        label="Accounts, one a line"
        hint="Each line: user there, password, address here. Without a user it is the address; with a master sign-in, leave the password out."
      >
        <textarea
          className="textarea w-full font-mono text-xs"
          rows={4}
          required
          placeholder="pau, secret of Pau, pau@shop.example"
          value={lines}
          onChange={(event) => setLines(event.target.value)}
        />
      </Field>
      <Check label="Look again every quarter of an hour, until nothing has come for two days" value={isRepeated} onChange={setRepeated} />
      <details className="mb-3">
        <summary className="cursor-pointer text-sm">Master sign-in, certificate</summary>
        <div className="mt-2 grid gap-x-3 sm:grid-cols-2">
          <Field label="Master user" hint="Who may sign in there for everybody.">
            <input className="input w-full" autoComplete="off" value={master} onChange={(event) => setMaster(event.target.value)} />
          </Field>
          <Field label="Master password">
            <input
              className="input w-full"
              type="password"
              autoComplete="off"
              value={masterPassword}
              onChange={(event) => setMasterPassword(event.target.value)}
            />
          </Field>
        </div>
        <Field label="SHA-256 of its certificate" hint="Where that is not trusted, or has another name.">
          <input className="input w-full" value={fingerprint} onChange={(event) => setFingerprint(event.target.value)} />
        </Field>
      </details>
      <FormEnd action="Import" busy={begin.isPending} problem={begin.error} onCancel={onClose} />
    </form>
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
    <form onSubmit={submits(begin)}>
      <div className="grid gap-x-3 sm:grid-cols-[auto_1fr]">
        <Field label="What">
          <select className="select w-full" value={what} onChange={(event) => setWhat(event.target.value)}>
            <option value="mailbox">a mailbox</option>
            <option value="domain">a domain</option>
            <option value="customer">a customer</option>
          </select>
        </Field>
        <Field label="Its name">
          <input className="input w-full" required value={name} onChange={(event) => setName(event.target.value)} />
        </Field>
      </div>
      <Field label="Path on the server" hint="A folder that is empty or not there yet; or an archive file, .tar or .tar.gz.">
        <input
          className="input w-full"
          required
          placeholder="/srv/exports/shop.tar.gz"
          value={path}
          onChange={(event) => setPath(event.target.value)}
        />
      </Field>
      <Field label="Mail as">
        <select className="select w-full" value={form} onChange={(event) => setForm(event.target.value as MailForm)}>
          {MAIL_FORMS.map((one) => (
            <option key={one} value={one}>
              {FORMS[one]}
            </option>
          ))}
        </select>
      </Field>
      <Check label="With hashes of passwords, for another server" value={withHashes} onChange={setWithHashes} />
      <FormEnd action="Export" busy={begin.isPending} problem={begin.error} onCancel={onClose} />
    </form>
  );
}
