import { OctagonX, Pause, Play, Trash2 } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import type { Stop } from '../../src/api/mail-schemas.ts';
import { call, useAll, useChange } from '../api.ts';
import { ProblemNote } from './blocks.tsx';
import { Dialog, Field, Form, FormEnd, FormProblem } from './forms.tsx';
import { count, fullTime } from './words.ts';

const WORDS: Record<Stop['kind'], string> = { pause: 'Paused', brake: 'Brake set', unusual: 'Stopped for unusual sending' };

/** What stops a domain (and its mailboxes, and its customer), with the ways to end it; nothing when nothing does. */
export function StopNotes({ domain, customer }: { domain: string; customer: string }) {
  const stops = useAll<Stop>('/stops', { everyMs: 5000 });
  const mine = (stops.data ?? []).filter(
    (one) => one.name === domain || one.name.endsWith(`@${domain}`) || one.scope === `customer:${customer}`,
  );
  return (
    <>
      {mine.map((one) => (
        <StopNote key={`${one.scope} ${one.kind}`} one={one} />
      ))}
    </>
  );
}

/** What stops just that scope. */
export function ScopeStops({ scope }: { scope: string }) {
  const stops = useAll<Stop>('/stops', { everyMs: 5000 });
  return (stops.data ?? []).filter((one) => one.scope === scope).map((one) => <StopNote key={one.kind} one={one} />);
}

export function StopNote({ one }: { one: Stop }) {
  const [discarding, setDiscarding] = useState(false);
  const body = { scope: one.scope, kind: one.kind };
  const release = useChange<object>(() => call('POST', '/stops/release', body));
  const discard = useChange<object>(
    () => call('POST', '/stops/discard', body),
    () => setDiscarding(false),
  );
  const what = one.sending && one.receiving ? 'Sending and receiving are' : one.sending ? 'Sending is' : 'Receiving is';
  const Icon = one.kind === 'pause' ? Pause : OctagonX;
  return (
    <div
      role="status"
      className={`mb-4 rounded-box border p-3 text-sm ${one.kind === 'pause' ? 'border-info/40 bg-info/8' : 'border-error/40 bg-error/8'}`}
    >
      <div className="flex flex-wrap items-start justify-between gap-3">
        <div className="flex min-w-0 gap-2">
          <Icon size={18} className="mt-0.5 shrink-0" aria-hidden="true" />
          <div>
            <p className="font-medium">
              {one.name}: {WORDS[one.kind]}. {what} stopped since {fullTime(one.at)}
              {one.held > 0 ? `, ${count(one.held, 'recipient')} held` : ''}.
            </p>
            <p className="soft">“{one.text}”</p>
          </div>
        </div>
        <div className="flex gap-2">
          <button type="button" className="btn btn-sm" onClick={() => release.mutate()} disabled={release.isPending}>
            <Play size={14} aria-hidden="true" /> {one.kind === 'pause' ? 'Resume' : 'Release'}
          </button>
          {one.held > 0 ? (
            <button type="button" className="btn btn-sm btn-error btn-outline" onClick={() => setDiscarding(true)}>
              <Trash2 size={14} aria-hidden="true" /> Discard what is held …
            </button>
          ) : null}
        </div>
      </div>
      {release.error ? <ProblemNote problem={release.error} /> : null}
      <Dialog title="Discard what is held" open={discarding} onClose={() => setDiscarding(false)}>
        <Form
          problem={discard.error}
          onSubmit={(event: FormEvent) => {
            event.preventDefault();
            discard.mutate();
          }}
        >
          <p className="text-sm">
            {count(one.held, 'recipient')} will not receive their mail; the senders are notified. Sending stays stopped until it is
            released.
          </p>
          <FormEnd action="Discard" busy={discard.isPending} problem={discard.error} onCancel={() => setDiscarding(false)} danger />
        </Form>
      </Dialog>
    </div>
  );
}

/** Pauses a scope, with the text that senders and users see. */
export function PauseForm({ scope }: { scope: string }) {
  const [what, setWhat] = useState('both');
  const [text, setText] = useState('');
  const pause = useChange<Stop>(
    () =>
      call('POST', '/stops', {
        scope,
        sending: what !== 'receiving',
        receiving: what !== 'sending',
        text: text.trim() === '' ? null : text,
      }),
    () => setText(''),
  );
  return (
    <Form
      problem={pause.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        pause.mutate();
      }}
    >
      <Field label="Pause">
        <select className="select select-sm w-full" value={what} onChange={(event) => setWhat(event.target.value)}>
          <option value="both">sending and receiving</option>
          <option value="sending">sending</option>
          <option value="receiving">receiving</option>
        </select>
      </Field>
      <Field field="text" label="Text for senders and users" hint="Plain ASCII, sent with the temporary refusal. Queued mail is held.">
        <input
          className="input input-sm w-full"
          value={text}
          placeholder="Mail is paused by the provider"
          onChange={(event) => setText(event.target.value)}
        />
      </Field>
      <FormProblem problem={pause.error} />
      <button type="submit" className="btn btn-sm" disabled={pause.isPending}>
        Pause {scope}
      </button>
    </Form>
  );
}
