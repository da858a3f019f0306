import { Download, Send } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import type { SettingsSheet as Sheet } from '../../src/api/mailbox-schemas.ts';
import { call, part, useCall, useChange } from '../api.ts';
import { Answer, ProblemNote } from './blocks.tsx';
import { CopyButton } from './copy.tsx';

const USES = [
  ['reading', 'Reading mail'],
  ['sending', 'Sending mail'],
] as const;

/** What is typed into a mail program, and ways to hand it on. */
export function SettingsSheet({ address }: { address: string }) {
  const query = useCall<Sheet>(`/mailboxes/${part(address)}/settings`);
  return <Answer query={query}>{(sheet) => <Shown sheet={sheet} />}</Answer>;
}

function Shown({ sheet }: { sheet: Sheet }) {
  const { address, settings, text, page, code, warning } = sheet;
  const [to, setTo] = useState('');
  const send = useChange<object>(() => call('POST', `/mailboxes/${part(address)}/settings/mail`, { to }));
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    send.mutate();
  };
  return (
    <>
      {warning === null ? null : (
        <p role="alert" className="alert alert-warning alert-soft mb-3 text-sm">
          {warning}
        </p>
      )}
      <p className="mb-3 text-sm">
        User name: <span className="font-medium">{address}</span>(the whole address). Use the first of each kind that the client supports.
      </p>
      <div className="grid gap-4 sm:grid-cols-2">
        {USES.map(([use, words]) => (
          <section key={use} aria-label={words}>
            <h3 className="font-medium text-sm">{words}</h3>
            <p className="record-text">{settings.find((one) => one.use === use)?.server}</p>
            <ul className="mt-1 space-y-1 text-sm">
              {settings
                .filter((one) => one.use === use)
                .map((one) => (
                  <li key={one.service}>
                    {one.protocol}, port {one.port}, {one.security}
                  </li>
                ))}
            </ul>
          </section>
        ))}
      </div>
      <div className="mt-4 flex flex-wrap items-start gap-6">
        <figure>
          <img
            className="h-36 w-36 rounded bg-white"
            alt={`QR code of the settings of ${address}`}
            src={`data:image/svg+xml,${encodeURIComponent(code)}`}
          />
          <figcaption className="soft mt-1 text-xs">Address, servers and ports; no password.</figcaption>
        </figure>
        <div className="min-w-56 flex-1 space-y-3">
          <div className="flex flex-wrap gap-2">
            <CopyButton text={text} what="the settings" />
            <a
              className="btn btn-sm"
              download={`settings of ${address}.html`}
              href={`data:text/html;charset=utf-8,${encodeURIComponent(page)}`}
            >
              <Download size={14} aria-hidden="true" /> Page to print
            </a>
          </div>
          <form onSubmit={submit} className="flex flex-wrap items-center gap-2">
            <input
              className="input input-sm w-56"
              type="email"
              required
              aria-label="Send the settings to"
              placeholder="Send to an address"
              value={to}
              onChange={(event) => setTo(event.target.value)}
            />
            <button type="submit" className="btn btn-sm" disabled={send.isPending}>
              <Send size={14} aria-hidden="true" /> Send
            </button>
          </form>
          {send.error ? <ProblemNote problem={send.error} /> : null}
          {send.isSuccess ? (
            <p role="status" className="text-sm">
              Sent, without a password.
            </p>
          ) : null}
        </div>
      </div>
    </>
  );
}
