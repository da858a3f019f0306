import { useState } from 'react';
import { Field } from './forms.tsx';

/** Another server and its accounts, as they are typed. */
export interface TypedServer {
  host: string;
  security: string;
  lines: string;
  master: string;
  masterPassword: string;
  fingerprint: string;
}

const EMPTY: TypedServer = { host: '', security: 'tls', lines: '', master: '', masterPassword: '', fingerprint: '' };
export const useServer = () => useState<TypedServer>(EMPTY);

export const or = (text: string): string | null => (text.trim() === '' ? null : text.trim());

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

/** As the API takes it. */
export const askedServer = ({ host, security, lines, master, masterPassword, fingerprint }: TypedServer): object => ({
  host: host.trim(),
  security,
  fingerprint: or(fingerprint),
  accounts: accountsOf(lines, master !== ''),
  master: master === '' ? null : { user: master, password: masterPassword },
});

export function ServerFields({
  server,
  onChange,
  example,
}: {
  server: TypedServer;
  onChange: (next: TypedServer) => void;
  example: string;
}) {
  const set =
    (name: keyof TypedServer) =>
    (event: { target: { value: string } }): void =>
      onChange({ ...server, [name]: event.target.value });
  return (
    <>
      <div className="grid gap-x-3 sm:grid-cols-[1fr_auto]">
        <Field field="host" label="The other server">
          <input className="input w-full" required placeholder="mail.old.example" value={server.host} onChange={set('host')} />
        </Field>
        <Field field="security" label="Security">
          <select className="select w-full" value={server.security} onChange={set('security')}>
            <option value="tls">TLS, port 993</option>
            <option value="starttls">STARTTLS, port 143</option>
          </select>
        </Field>
      </div>
      <Field
        field="accounts"
        label="Accounts, one a line"
        hint="Each line: user there, password, address here. The user defaults to the address; with a master user, leave out the password."
      >
        <textarea
          className="textarea w-full font-mono text-xs"
          rows={4}
          required
          placeholder={example}
          value={server.lines}
          onChange={set('lines')}
        />
      </Field>
      <details className="mb-3">
        <summary className="cursor-pointer text-sm">Master sign-in, certificate</summary>
        <div className="mt-2 grid gap-x-3 sm:grid-cols-2">
          <Field field="master.user" label="Master user" hint="A user there who can open every mailbox.">
            <input className="input w-full" autoComplete="off" value={server.master} onChange={set('master')} />
          </Field>
          <Field field="master.password" label="Master password">
            <input
              className="input w-full"
              type="password"
              autoComplete="off"
              value={server.masterPassword}
              onChange={set('masterPassword')}
            />
          </Field>
        </div>
        <Field field="fingerprint" label="SHA-256 of its certificate" hint="Only if it is not trusted or has another name.">
          <input className="input w-full" value={server.fingerprint} onChange={set('fingerprint')} />
        </Field>
      </details>
    </>
  );
}
