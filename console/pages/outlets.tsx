import { FlaskConical, Pencil, Plus, Power, Trash2 } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import type { Outlet } from '../../src/api/mail-schemas.ts';
import { periodText } from '../../src/texts/en/limits.ts';
import { call, part, useAll, useChange } from '../api.ts';
import { Answer, DataTable, IconButton, PageHead, Panel, ProblemNote } from '../parts/blocks.tsx';
import { Dialog, Field, Form, FormEnd } from '../parts/forms.tsx';
import { ScopeLimits } from '../parts/limits.tsx';
import { Meter } from '../parts/marks.tsx';
import { OutletTestForm } from '../parts/outlet-test.tsx';
import { shortTime } from '../parts/words.ts';

type Open = { kind: 'form'; one: Outlet | null } | { kind: 'test' | 'limits' | 'remove'; one: Outlet };

const way = (one: Outlet): string => (one.kind === 'direct' ? 'directly, by MX' : `through ${one.host} port ${one.port}`);

export function OutletsPage() {
  const query = useAll<Outlet>('/outlets', { everyMs: 5000 });
  const [open, setOpen] = useState<Open | null>(null);
  const turn = useChange<Outlet, Outlet>((one) => call('PATCH', `/outlets/${part(one.name)}`, { isOn: !one.isOn }));
  const close = (): void => setOpen(null);
  return (
    <>
      <PageHead title="Outlets">
        <button type="button" className="btn btn-sm btn-primary" onClick={() => setOpen({ kind: 'form', one: null })}>
          <Plus size={14} aria-hidden="true" /> Add a smart host
        </button>
      </PageHead>
      {turn.error ? <ProblemNote problem={turn.error} /> : null}
      <Panel title="Outlets in the order they are tried">
        <Answer query={query}>
          {(rows) => (
            <DataTable headings={['Outlet', 'Mail of', 'Mail for', 'Used of its limits', 'When spent']}>
              {rows.map((one) => (
                <tr key={one.id} className={one.isOn ? '' : 'opacity-60'}>
                  <td>
                    <span className="font-medium">{one.name}</span> {one.isOn ? null : <span className="badge badge-sm">off</span>}
                    <span className="soft block text-xs">
                      {way(one)} · TLS {one.tls}
                      {one.user ? ` · as ${one.user}` : ''}
                    </span>
                  </td>
                  <td>
                    {one.senders.isAny
                      ? 'anybody'
                      : [...one.senders.customers, ...one.senders.domains].join(', ') || 'nobody: its senders are gone'}
                  </td>
                  <td>{one.destinations.join(', ') || 'anybody'}</td>
                  <td className="min-w-52">{one.limits.length === 0 ? <span className="soft">no limit</span> : <Spent one={one} />}</td>
                  <td>{one.whenSpent === 'next' ? 'the next one' : 'mail waits'}</td>
                  <td className="whitespace-nowrap text-right">
                    <IconButton
                      icon={FlaskConical}
                      label={`Test ${one.name}`}
                      title="Test step by step"
                      onClick={() => setOpen({ kind: 'test', one })}
                    />
                    <button type="button" className="btn btn-ghost btn-sm" onClick={() => setOpen({ kind: 'limits', one })}>
                      Limits
                    </button>
                    <IconButton icon={Pencil} label={`Change ${one.name}`} title="Change" onClick={() => setOpen({ kind: 'form', one })} />
                    <IconButton
                      icon={Power}
                      label={`Switch ${one.name} ${one.isOn ? 'off' : 'on'}`}
                      title={one.isOn ? 'Switch off' : 'Switch on'}
                      onClick={() => turn.mutate(one)}
                    />
                    <IconButton
                      icon={Trash2}
                      label={`Remove ${one.name}`}
                      title={rows.length === 1 ? 'The only outlet' : 'Remove'}
                      disabled={rows.length === 1}
                      onClick={() => setOpen({ kind: 'remove', one })}
                    />
                  </td>
                </tr>
              ))}
            </DataTable>
          )}
        </Answer>
      </Panel>
      <div className="mt-4 grid items-start gap-4 lg:grid-cols-2">
        <Panel title="Limits of the whole server">
          <ScopeLimits scope="server" />
        </Panel>
        <Panel title="How outlets are chosen">
          <ul className="soft list-disc space-y-2 pl-5 text-sm">
            <li>Each recipient takes the first enabled outlet that matches sender and destination.</li>
            <li>When its limit is used up, mail takes the next outlet or waits, as you choose.</li>
            <li>When no outlet matches, mail waits in the queue.</li>
            <li>Mail for domains with the role pass-on or standby goes directly to their own server.</li>
          </ul>
        </Panel>
      </div>
      <Dialog
        title={open?.kind === 'form' ? (open.one ? `Change ${open.one.name}` : 'Add a smart host') : ''}
        open={open?.kind === 'form'}
        onClose={close}
      >
        {open?.kind === 'form' ? <OutletForm one={open.one} onClose={close} /> : null}
      </Dialog>
      <Dialog title={`Test ${open?.one?.name ?? ''}`} open={open?.kind === 'test'} onClose={close}>
        {open?.kind === 'test' ? <OutletTestForm one={open.one} /> : null}
      </Dialog>
      <Dialog title={`Limits of ${open?.one?.name ?? ''}`} open={open?.kind === 'limits'} onClose={close}>
        {open?.kind === 'limits' ? <ScopeLimits scope={`outlet:${open.one.name}`} /> : null}
      </Dialog>
      <Dialog title={`Remove ${open?.one?.name ?? ''}?`} open={open?.kind === 'remove'} onClose={close}>
        {open?.kind === 'remove' ? <RemoveOutlet one={open.one} onClose={close} /> : null}
      </Dialog>
    </>
  );
}

/** In a row there is room for the figures only. */
function Spent({ one }: { one: Outlet }) {
  return (
    <ul className="space-y-1">
      {one.limits.map((limit) => (
        <li key={`${limit.period} ${limit.quantity}`}>
          <Meter
            wide
            used={limit.used}
            limit={limit.amount}
            label={`${limit.quantity} a ${periodText(limit.period)} through ${one.name}`}
          />
          <span className="soft text-xs">
            {limit.quantity} a {periodText(limit.period)}
            {limit.roomAt !== null ? `; room again ${shortTime(limit.roomAt)}` : ''}
          </span>
        </li>
      ))}
    </ul>
  );
}

const list = (text: string): string[] => text.split(/[\s,]+/).filter((one) => one !== '');

function OutletForm({ one, onClose }: { one: Outlet | null; onClose: () => void }) {
  const [values, setValues] = useState({
    name: one?.name ?? '',
    host: one?.host ?? '',
    port: String(one?.port ?? 587),
    tls: one?.tls ?? 'required',
    user: one?.user ?? '',
    password: '',
    customers: one?.senders.customers.join(', ') ?? '',
    domains: one?.senders.domains.join(', ') ?? '',
    destinations: one?.destinations.join(', ') ?? '',
    position: String(one?.position ?? 100),
    whenSpent: one?.whenSpent ?? 'wait',
    sourceIpv4: one?.sourceIpv4 ?? '',
    sourceIpv6: one?.sourceIpv6 ?? '',
  });
  const direct = one?.kind === 'direct';
  const save = useChange<Outlet>(() => {
    const body = {
      name: values.name,
      tls: values.tls,
      ...(direct ? {} : { host: values.host, port: Number(values.port), user: values.user === '' ? null : values.user }),
      ...(values.password === '' ? {} : { password: values.password }),
      customers: values.customers
        .split(',')
        .map((name) => name.trim())
        .filter((name) => name !== ''),
      domains: list(values.domains),
      destinations: list(values.destinations),
      position: Number(values.position),
      whenSpent: values.whenSpent,
      sourceIpv4: values.sourceIpv4 === '' ? null : values.sourceIpv4,
      sourceIpv6: values.sourceIpv6 === '' ? null : values.sourceIpv6,
    };
    return one
      ? call('PATCH', `/outlets/${part(one.name)}`, body, one.revision)
      : call('POST', '/outlets', { ...body, kind: 'smart-host' });
  }, onClose);
  const input = (key: keyof typeof values, label: string, hint?: string, type = 'text') => (
    <Field field={key} label={label} {...(hint ? { hint } : {})}>
      <input
        className="input input-sm w-full"
        type={type}
        autoComplete="off"
        value={values[key]}
        onChange={(event) => setValues({ ...values, [key]: event.target.value })}
      />
    </Field>
  );
  return (
    <Form
      problem={save.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        save.mutate();
      }}
    >
      {input('name', 'Name')}
      {direct ? null : (
        <div className="grid grid-cols-[1fr_6rem] gap-x-3">
          {input('host', 'Smart host')}
          {input('port', 'Port', undefined, 'number')}
        </div>
      )}
      <Field field="tls" label="TLS" hint="With required and implicit the certificate must name the host.">
        <select
          className="select select-sm w-full"
          value={values.tls}
          onChange={(event) => setValues({ ...values, tls: event.target.value as Outlet['tls'] })}
        >
          <option value="required">required (STARTTLS)</option>
          <option value="implicit">implicit (from the start)</option>
          <option value="offered">if offered</option>
          <option value="none">none</option>
        </select>
      </Field>
      {direct ? null : (
        <div className="grid grid-cols-2 gap-x-3">
          {input('user', 'User', 'Empty: no sign-in')}
          {input('password', 'Password', one?.hasPassword ? 'Empty to keep the current one' : undefined, 'password')}
        </div>
      )}
      {input('customers', 'Only mail of these customers', 'Separated by commas; empty for anybody.')}
      {input('domains', 'Only mail of these domains')}
      {input('destinations', 'Only mail for', 'Like northpost.example or *.northpost.example.')}
      <div className="grid grid-cols-2 gap-x-3">
        {input('position', 'Position', 'Lower numbers are tried first.', 'number')}
        <Field field="whenSpent" label="When its limit is used up">
          <select
            className="select select-sm w-full"
            value={values.whenSpent}
            onChange={(event) => setValues({ ...values, whenSpent: event.target.value as 'next' })}
          >
            <option value="next">the next outlet takes it</option>
            <option value="wait">mail waits</option>
          </select>
        </Field>
        {input('sourceIpv4', 'Leave from IPv4 address')}
        {input('sourceIpv6', 'Leave from IPv6 address')}
      </div>
      <FormEnd action={one ? 'Save' : 'Add it'} busy={save.isPending} problem={save.error} onCancel={onClose} />
    </Form>
  );
}

function RemoveOutlet({ one, onClose }: { one: Outlet; onClose: () => void }) {
  const remove = useChange<object>(() => call('DELETE', `/outlets/${part(one.name)}`), onClose);
  return (
    <Form
      problem={remove.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        remove.mutate();
      }}
    >
      <p className="text-sm">Mail no longer leaves {way(one)}; waiting mail takes another outlet or keeps waiting.</p>
      <FormEnd action="Remove" busy={remove.isPending} problem={remove.error} onCancel={onClose} danger />
    </Form>
  );
}
