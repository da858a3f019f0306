import { Download, Eye, Plus, ScanSearch, Trash2 } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import { Link } from 'react-router';
import type { CertificateName, PortCheck } from '../../src/api/certificate-schemas.ts';
import { call, part, useChange } from '../api.ts';
import { DataTable, Empty, IconButton, PageHead, Panel, ProblemNote } from '../parts/blocks.tsx';
import { Dialog, Field, Form, FormEnd } from '../parts/forms.tsx';
import { Listing } from '../parts/listing.tsx';
import { Mark } from '../parts/marks.tsx';
import { RemoveDialog } from '../parts/remove.tsx';
import { day, shortTime } from '../parts/words.ts';

const SOURCES = { file: 'a file', added: 'added', fetched: 'fetched', 'self-signed': 'signed by this host' } as const;

type Open = { kind: 'add' | 'check' } | { kind: 'show' | 'remove'; one: CertificateName } | null;

export function CertificatesPage() {
  const [open, setOpen] = useState<Open>(null);
  const close = (): void => setOpen(null);
  const fetchIt = useChange<CertificateName, string>((name) => call('POST', `/certificates/${part(name)}/fetch`));
  return (
    <>
      <PageHead title="Certificates">
        <button type="button" className="btn btn-sm" onClick={() => setOpen({ kind: 'check' })}>
          <ScanSearch size={14} aria-hidden="true" /> Check the ports
        </button>
        <button type="button" className="btn btn-sm btn-primary" onClick={() => setOpen({ kind: 'add' })}>
          <Plus size={14} aria-hidden="true" /> Add a certificate
        </button>
      </PageHead>
      {fetchIt.error ? <ProblemNote problem={fetchIt.error} /> : null}
      {fetchIt.isPending ? (
        <p role="status" className="alert mb-4 text-sm">
          <span className="loading loading-spinner loading-sm" aria-hidden="true" /> A certificate for {fetchIt.variables} is being fetched
          …
        </p>
      ) : null}
      <Panel title="Host names for clients">
        <Listing<CertificateName>
          name=""
          path="/certificates"
          everyMs={10_000}
          searchFor="names"
          keyOf={(one) => one.name}
          nameOf={(one) => one.name}
          columns={[
            {
              heading: 'Name',
              sort: 'name',
              cell: (one) => (
                <>
                  <button
                    type="button"
                    className="link link-hover text-left font-medium sm:whitespace-nowrap"
                    onClick={() => setOpen({ kind: 'show', one })}
                  >
                    {one.name}
                  </button>
                  {one.domain === null ? null : (
                    <Link className="soft link link-hover block text-xs" to={`/domains/${part(one.domain)}?tab=settings`}>
                      {one.domain}
                    </Link>
                  )}
                </>
              ),
            },
            {
              heading: 'State',
              className: 'max-w-md',
              cell: (one) => (
                <>
                  <Mark verdict={one.verdict} what={one.name} />
                  {one.verdict === 'good' ? null : <span className="soft block text-xs">{one.findings[0]?.text}</span>}
                </>
              ),
            },
            {
              heading: 'Certificate',
              cell: (one) =>
                one.certificate ? (
                  <>
                    {SOURCES[one.certificate.source]}
                    {one.certificate.source === 'self-signed' ? null : <span className="soft block text-xs">{one.certificate.issuer}</span>}
                  </>
                ) : (
                  <span className="soft">none; clients get the host’s</span>
                ),
            },
            {
              heading: 'Until',
              sort: 'until',
              className: 'whitespace-nowrap',
              cell: (one) => (one.certificate ? day(one.certificate.until) : ''),
            },
            { heading: 'Next', sort: 'due', cell: (one) => <Next one={one} /> },
          ]}
          usual="due"
          orders={{ domain: 'Domain' }}
          actions={(one) => (
            <>
              <IconButton icon={Eye} label={`Show ${one.name}`} title="Show details" onClick={() => setOpen({ kind: 'show', one })} />
              <IconButton
                icon={Download}
                label={`Fetch a certificate for ${one.name}`}
                title="Fetch from the authority now"
                disabled={fetchIt.isPending}
                onClick={() => fetchIt.mutate(one.name)}
              />
              <IconButton
                icon={Trash2}
                label={`Remove the certificate of ${one.name}`}
                title="Remove the certificate"
                disabled={!isKept(one)}
                onClick={() => setOpen({ kind: 'remove', one })}
              />
            </>
          )}
          empty={<Empty>No host names yet.</Empty>}
        />
        <p className="soft mt-3 text-sm">
          The host’s name, and mail.DOMAIN of every home domain, get certificates automatically once they point here and an authority is
          configured. A domain’s settings can keep its users on the host’s name.
        </p>
      </Panel>
      <Dialog title="Add a certificate" open={open?.kind === 'add'} onClose={close}>
        {open?.kind === 'add' ? <AddForm onClose={close} /> : null}
      </Dialog>
      <Dialog wide title="Certificates on the ports" open={open?.kind === 'check'} onClose={close}>
        {open?.kind === 'check' ? <Check /> : null}
      </Dialog>
      <Dialog wide title={open?.kind === 'show' ? open.one.name : ''} open={open?.kind === 'show'} onClose={close}>
        {open?.kind === 'show' ? <Facts one={open.one} /> : null}
      </Dialog>
      <RemoveDialog
        what={open?.kind === 'remove' ? { path: `/certificates/${part(open.one.name)}`, name: open.one.name } : null}
        onClose={close}
      />
    </>
  );
}

const isKept = ({ certificate }: CertificateName): boolean => certificate?.source === 'added' || certificate?.source === 'fetched';

function Next({ one }: { one: CertificateName }) {
  if (one.next === '') return null;
  return (
    <>
      {one.next}
      {one.nextAt === null ? null : <span className="soft block whitespace-nowrap text-xs">{shortTime(one.nextAt)}</span>}
    </>
  );
}

function Facts({ one }: { one: CertificateName }) {
  const { certificate } = one;
  const rows: [string, string][] = certificate
    ? [
        ['Source', `${SOURCES[certificate.source]} (${certificate.place})`],
        ['Authority', certificate.issuer],
        [
          'For',
          certificate.names.join(', ') +
            (certificate.nameCount > certificate.names.length ? ` and ${certificate.nameCount - certificate.names.length} more` : ''),
        ],
        ['Valid', `${day(certificate.from)} to ${day(certificate.until)}`],
        ['Key', certificate.key],
        ['SHA-256', certificate.fingerprint],
      ]
    : [];
  return (
    <>
      <ul className="mb-4 space-y-3">
        {one.findings.map((finding) => (
          <li key={finding.code} className="text-sm">
            <Mark verdict={finding.verdict} /> {finding.text}
            {finding.action === '' ? null : <span className="soft block">{finding.action}</span>}
          </li>
        ))}
      </ul>
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-2 text-sm">
        {rows.map(([name, value]) => (
          <div key={name} className="contents">
            <dt className="soft">{name}</dt>
            <dd className={name === 'SHA-256' ? 'record-text break-all' : 'break-words'}>{value}</dd>
          </div>
        ))}
      </dl>
    </>
  );
}

function AddForm({ onClose }: { onClose: () => void }) {
  const [certificate, setCertificate] = useState('');
  const [key, setKey] = useState('');
  const add = useChange<object>(() => call('POST', '/certificates', { certificate, key }), onClose);
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    add.mutate();
  };
  const pem = (label: string, hint: string, value: string, set: (text: string) => void) => (
    <Field label={label} hint={hint}>
      <textarea
        className="textarea record-text h-32 w-full text-xs"
        required
        spellCheck={false}
        value={value}
        onChange={(event) => set(event.target.value)}
        onDragOver={(event) => event.preventDefault()}
        onDrop={(event) => {
          const [file] = event.dataTransfer.files;
          if (!file) return;
          event.preventDefault();
          file.text().then(set, () => {});
        }}
      />
    </Field>
  );
  return (
    <Form problem={add.error} onSubmit={submit}>
      {pem('Certificate', 'PEM: the certificate, then its intermediates. Paste it, or drop the file.', certificate, setCertificate)}
      {pem('Private key', 'PEM, without a passphrase. It is stored sealed and never shown again.', key, setKey)}
      <FormEnd action="Add" busy={add.isPending} problem={add.error} onCancel={onClose} />
    </Form>
  );
}

function Check() {
  const check = useChange<PortCheck>(() => call('POST', '/certificates/check', {}));
  const rows = check.data?.checked ?? [];
  const isBad = (one: (typeof rows)[number]): boolean => one.failure !== null || one.findings.some((finding) => finding.verdict !== 'good');
  const looks = (some: typeof rows): number => some.reduce((sum, one) => sum + one.ports.length, 0);
  const bad = rows.filter(isBad);
  const whole = Math.max(...rows.map(({ name }) => looks(rows.filter((one) => one.name === name))));
  return (
    <>
      <p className="soft mb-3 text-sm">
        Connects to each TLS port of this host with each name that points here, and inspects the certificate that clients see.
      </p>
      {check.error ? <ProblemNote problem={check.error} /> : null}
      {check.data ? (
        <>
          <p role="status" className="mb-2 text-sm">
            {bad.length === 0 ? `All ${looks(rows)} checks passed.` : `${looks(bad)} of ${looks(rows)} checks failed.`}
          </p>
          <DataTable headings={['Asked for', 'Seen']}>
            {[...bad, ...rows.filter((one) => !isBad(one))].map((one) => (
              <tr key={JSON.stringify(one)}>
                <td>
                  {one.name}
                  <span className="soft block text-xs">
                    {one.ports.length === whole
                      ? `at all ${whole} ports`
                      : one.ports.map(({ service, port }) => `${service} ${port}`).join(', ')}
                  </span>
                </td>
                <td>
                  <Mark verdict={one.failure === null ? (one.findings[0]?.verdict ?? 'unknown') : 'wrong'} />
                  {isBad(one) ? <span className="soft block text-xs">{one.failure ?? one.findings[0]?.text}</span> : null}
                </td>
              </tr>
            ))}
          </DataTable>
        </>
      ) : (
        <button type="button" className="btn btn-primary btn-sm" disabled={check.isPending} onClick={() => check.mutate()}>
          {check.isPending ? 'Connecting …' : 'Connect now'}
        </button>
      )}
    </>
  );
}
