import { RotateCw, Trash2 } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import type { FindingChange, HostReport } from '../../src/api/dns-schemas.ts';
import type { Network } from '../../src/api/schemas.ts';
import { call, useCall, useChange } from '../api.ts';
import { AskFirst } from '../parts/ask-first.tsx';
import { Answer, DataTable, PageHead, Panel, ProblemNote } from '../parts/blocks.tsx';
import { CopyButton } from '../parts/copy.tsx';
import { FindingBlock, Timeline } from '../parts/findings.tsx';
import { Dialog } from '../parts/forms.tsx';
import { Listing } from '../parts/listing.tsx';
import { ManyForm } from '../parts/many-form.tsx';
import { SendingButton } from '../parts/sending-dialog.tsx';
import { ago, day } from '../parts/words.ts';
import { Zones } from '../parts/zone-form.tsx';
import { NoticesPanel } from './notices.tsx';

export function HostPage() {
  const query = useCall<HostReport>('/host', { everyMs: 15_000 });
  const history = useCall<{ rows: FindingChange[] }>('/host/history', { everyMs: 15_000 });
  const check = useChange<HostReport>(() => call('POST', '/host/check'));
  return (
    <>
      <PageHead title="Host">
        <span className="soft text-sm" role="status">
          {check.isPending ? 'Looking …' : query.data ? `checked ${ago(query.data.checkedAt)}` : ''}
        </span>
        <button type="button" className="btn btn-sm" onClick={() => check.mutate()} disabled={check.isPending}>
          <RotateCw size={14} className={check.isPending ? 'animate-spin' : ''} aria-hidden="true" /> Check again
        </button>
      </PageHead>
      {check.error ? <ProblemNote problem={check.error} /> : null}
      <Answer query={query}>
        {(host) => (
          <div className="space-y-4">
            <Panel title={host.name}>
              <dl className="grid gap-x-6 gap-y-2 text-sm sm:grid-cols-[8rem_1fr]">
                <dt className="soft">Addresses</dt>
                <dd className="record-text">{host.addresses.join(', ')}</dd>
                {host.standby.length > 0 ? (
                  <>
                    <dt className="soft">Standby</dt>
                    <dd className="record-text">{host.standby.join(', ')}</dd>
                  </>
                ) : null}
                <dt className="soft">Postmaster</dt>
                <dd>
                  {host.postmaster} <span className="soft">gets mail to postmaster and abuse of domains without those mailboxes</span>
                </dd>
                {host.blockLists.length > 0 ? (
                  <>
                    <dt className="soft">Block lists</dt>
                    <dd className="record-text">{host.blockLists.join(', ')}</dd>
                  </>
                ) : null}
              </dl>
              <p className="soft mt-3 text-sm">Set in the configuration file.</p>
            </Panel>
            <Panel title="Findings">
              {host.findings.map((one) => (
                <FindingBlock key={`${one.code} ${one.headline}`} one={one} checkedAt={host.checkedAt} />
              ))}
            </Panel>
            <Panel
              title="Records of the host"
              aside={
                <span className="flex items-center gap-1 text-sm">
                  Request for reverse DNS <CopyButton text={host.request} what="text of the request" />
                </span>
              }
            >
              <DataTable headings={['Type', 'Name', 'Value']}>
                {host.records.map((record) => (
                  <tr key={`${record.type} ${record.name} ${record.value}`}>
                    <td>{record.type}</td>
                    <td className="record-text">{record.name}</td>
                    <td className="record-text">{record.value}</td>
                    <td className="text-right">
                      <CopyButton
                        text={`${record.name}. IN ${record.type} ${record.value}${record.type === 'PTR' ? '.' : ''}`}
                        what={`${record.type} record`}
                      />
                    </td>
                  </tr>
                ))}
              </DataTable>
              <p className="soft mt-2 text-sm">
                The holder of the address block sets PTR records. Send them this request; it can take days.
              </p>
            </Panel>
            <Networks />
            <div className="grid grid-cols-1 items-start gap-4 lg:grid-cols-2">
              <NoticesPanel />
              <Zones />
            </div>
            <Panel title="History">
              <Answer query={history}>{({ rows }) => <Timeline rows={rows} />}</Answer>
            </Panel>
          </div>
        )}
      </Answer>
    </>
  );
}

/** As whom a network may send, as it is typed: nobody is never everybody. */
function sendersOf(text: string): { anyDomain: true } | { domains: string[] } {
  const domains = text.split(/[\s,]+/).filter((one) => one !== '');
  return domains.length === 1 && domains[0]?.toLowerCase() === 'any' ? { anyDomain: true } : { domains };
}

function Networks() {
  const [removing, setRemoving] = useState<Network[]>([]);
  const [cidr, setCidr] = useState('');
  const [note, setNote] = useState('');
  const [maySubmit, setMaySubmit] = useState(false);
  const [domains, setDomains] = useState('');
  const add = useChange<Network>(
    () =>
      call('POST', '/networks', {
        cidr,
        note,
        maySubmit,
        ...(maySubmit ? sendersOf(domains) : {}),
      }),
    () => {
      setCidr('');
      setNote('');
      setMaySubmit(false);
      setDomains('');
    },
  );
  const remove = useChange<object, string>((which) => call('POST', '/networks/remove', { cidr: which }));
  return (
    <Panel title="Trusted networks">
      <p className="soft mb-3 text-sm">
        Forwarders, mailing lists and offices: exempt from DMARC and lockouts. They can also be allowed to send without signing in.
      </p>
      <form
        className="mb-3 flex flex-wrap items-center gap-2"
        onSubmit={(event: FormEvent) => {
          event.preventDefault();
          add.mutate();
        }}
      >
        <input
          className="input input-sm w-44"
          aria-label="Network"
          placeholder="198.51.100.0/24"
          required
          value={cidr}
          onChange={(event) => setCidr(event.target.value)}
        />
        <input
          className="input input-sm min-w-32 flex-1"
          aria-label="Owner"
          placeholder="choir list"
          value={note}
          onChange={(event) => setNote(event.target.value)}
        />
        <label className="flex items-center gap-2 text-sm">
          <input
            type="checkbox"
            className="checkbox checkbox-sm"
            checked={maySubmit}
            onChange={(event) => setMaySubmit(event.target.checked)}
          />
          may send
        </label>
        {maySubmit ? (
          <input
            className="input input-sm w-full"
            aria-label="Sender domains"
            placeholder="sender domains, like shop.example vivero.example, or any"
            required
            value={domains}
            onChange={(event) => setDomains(event.target.value)}
          />
        ) : null}
        <button type="submit" className="btn btn-sm" disabled={add.isPending}>
          Trust
        </button>
      </form>
      {add.error ? <ProblemNote problem={add.error} /> : null}
      {remove.error ? <ProblemNote problem={remove.error} /> : null}
      <Listing<Network>
        name="networks"
        path="/networks"
        searchFor="networks"
        keyOf={(one) => one.id}
        nameOf={(one) => one.cidr}
        columns={[
          { heading: 'Network', sort: 'network', className: 'record-text whitespace-nowrap', cell: (one) => one.cidr },
          { heading: 'Note', sort: 'note', cell: (one) => one.note },
          {
            heading: 'May send',
            cell: (one) =>
              one.maySubmit ? (one.anyDomain ? 'as anybody' : `as ${one.domains.join(', ') || 'nobody: its domains are gone'}`) : '–',
          },
          { heading: 'Since', sort: 'since', down: true, className: 'soft whitespace-nowrap', cell: (one) => day(one.createdAt) },
        ]}
        actions={(one) => (
          <>
            {one.maySubmit ? <SendingButton scope={one.cidr} name={one.cidr} /> : null}
            <AskFirst
              icon={Trash2}
              label={`Remove ${one.cidr}`}
              title="Remove trusted network"
              question={`Mail from ${one.cidr} will be treated like any other, and its clients must sign in to send.`}
              action="Remove"
              act={() => remove.mutate(one.cidr)}
            />
          </>
        )}
        many={[{ name: 'Remove', icon: Trash2, onAct: setRemoving }]}
        empty={<p className="soft py-2 text-sm">No trusted networks.</p>}
      />
      <Dialog title="Remove several networks" open={removing.length > 0} onClose={() => setRemoving([])}>
        <ManyForm
          rows={removing}
          nameOf={(one) => one.cidr}
          words="They will be treated like any other network:"
          action="Remove them"
          act={(one) => call('POST', '/networks/remove', { cidr: one.cidr })}
          onClose={() => setRemoving([])}
          danger
        />
      </Dialog>
    </Panel>
  );
}
