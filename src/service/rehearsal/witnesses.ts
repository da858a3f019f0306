import { domainName } from '../../core/address/domain.ts';
import { introductionProof, isProof } from '../../core/witness/introduction.ts';
import { publicKeyOf } from '../../core/witness/key.ts';
import { addEntry } from '../../store/journeys.ts';
import * as store from '../../store/witnesses.ts';
import { badInput, Problem, replacedSince } from '../base/problem.ts';
import { oneTimeCode } from '../base/secrets.ts';
import type { RehearsalDeps } from './deps.ts';
import { introduction } from './rehearsal-wire.ts';

const INTRODUCTION_PATH = '/api/v1/witness/introductions';
/** How long a one-time code is good. */
const CODE_MS = 3_600_000;

export interface WitnessView extends Omit<store.Witness, 'publicKey' | 'id'> {
  isIntroduced: boolean;
}
export interface NewWitness {
  name: string;
  /** Where it is asked, with the code that it gave; both null to give it one. */
  url: string | null;
  code: string | null;
  /** Where it asks this host, if it may. */
  ownUrl: string | null;
}

const viewOf = ({ publicKey, id: _id, ...one }: store.Witness): WitnessView => ({ ...one, isIntroduced: publicKey !== null });
export const listWitnesses = ({ db }: RehearsalDeps): WitnessView[] => store.listWitnesses(db).map(viewOf);

/** Gives another host a one-time code by which it introduces itself; or introduces this one to it, by the code that it gave. */
export async function addWitness(context: RehearsalDeps, asked: NewWitness): Promise<WitnessView & { givenCode: string | null }> {
  const { host } = context;
  const name = domainName(asked.name.trim());
  if (name === null || name === host.name)
    throw badInput('name', `“${asked.name.slice(0, 80)}” is not the name of another host.`, 'Write it like reserve.provider.example.');
  if ((asked.url === null) !== (asked.code === null))
    throw badInput(asked.url === null ? 'url' : 'code', 'An address and a code belong together.', 'Give both, or neither to get a code.');
  const ownUrl = asked.ownUrl === null ? null : readUrl('ownUrl', asked.ownUrl);
  const givenCode = asked.url === null || asked.code === null ? await invite(context, name) : null;
  if (asked.url !== null && asked.code !== null) await introduceTo(context, name, readUrl('url', asked.url), asked.code.trim(), ownUrl);
  return { ...viewOf(store.findWitness(context.db, name) as store.Witness), givenCode };
}

async function invite({ db, clock, keyFile }: RehearsalDeps, name: string): Promise<string> {
  const code = oneTimeCode();
  await db.commit(() => {
    store.inviteWitness(db, name, keyFile.seal(code), clock.now() + CODE_MS, clock.now());
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'witness-invited', data: { name } });
  });
  return code;
}

/** Throws unless the code that another host was given can still be used. */
export function requireOpenCode({ db, clock, keyFile }: RehearsalDeps, name: string, code: string): void {
  const sealed = store.openCode(db, name, clock.now());
  if (sealed === null || keyFile.open(sealed) !== code) throw replacedSince(`the code for ${name}`);
}

async function introduceTo(context: RehearsalDeps, name: string, url: string, code: string, ownUrl: string | null): Promise<void> {
  const { host, witnesses, askOut } = context;
  const mine = { name: host.name, url: ownUrl, publicKey: witnesses.publicKey };
  const body = JSON.stringify({ ...mine, proof: introductionProof(code, mine, null) });
  const answer = await askOut(url + INTRODUCTION_PATH, { 'content-type': 'application/json' }, body);
  if (answer.kind === 'failed')
    throw new Problem('witness', `${name} does not answer: ${answer.reason}.`, `Look whether ${url} leads to it.`, 'url');
  if (answer.status === 401)
    throw badInput(
      'code',
      `${name} does not know the code, or its time has passed.`,
      `Get another one there: tenedor witness add ${host.name}`,
    );
  const theirs = introduction.safeParse(answer.status === 200 ? json(answer.body) : null).data;
  // Who does not have the code can't say this.
  if (
    !theirs ||
    theirs.name !== name ||
    !publicKeyOf(theirs.publicKey) ||
    !isProof(theirs.proof, introductionProof(code, theirs, mine.publicKey))
  )
    throw new Problem(
      'witness',
      `What answers at ${url} is not ${name}.`,
      'Look where that address leads, and how that host is called there.',
      'url',
    );
  await keep(context, { name, url, publicKey: theirs.publicKey });
}

/** Another host introduces itself by a code that it was given. Answers in the same way, so that it knows with whom it speaks. */
export async function beIntroduced(context: RehearsalDeps, value: unknown): Promise<object> {
  const { db, clock, host, keyFile, witnesses } = context;
  const theirs = introduction.safeParse(value).data;
  const sealed = theirs ? store.openCode(db, theirs.name, clock.now()) : null;
  const code = sealed === null ? null : keyFile.open(sealed);
  const isKnown = theirs !== undefined && code !== null && isProof(theirs.proof, introductionProof(code, theirs, null));
  // A code has 79 bits: a wrong one need not end it, which strangers could do to anybody.
  if (!isKnown || !publicKeyOf(theirs.publicKey))
    throw new Problem(
      'not-signed-in',
      'That host has no such code here, or its time has passed.',
      'Get another one there: tenedor witness add',
    );
  await keep(context, {
    name: theirs.name,
    url: theirs.url === null ? null : readUrl('url', theirs.url),
    publicKey: theirs.publicKey,
  });
  const mine = { name: host.name, url: null, publicKey: witnesses.publicKey };
  return { ...mine, proof: introductionProof(code, mine, theirs.publicKey) };
}

export async function removeWitness({ db, clock }: RehearsalDeps, name: string): Promise<void> {
  await db.commit(() => {
    if (!store.removeWitness(db, name.toLowerCase()))
      throw new Problem('not-found', `${name.slice(0, 100)} is no witness of this host.`, 'List them: tenedor witness list');
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'witness-removed', data: { name: name.toLowerCase() } });
  });
}

async function keep({ db, clock }: RehearsalDeps, one: { name: string; url: string | null; publicKey: string }): Promise<void> {
  await db.commit(() => {
    store.keepWitness(db, one, clock.now());
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'witness-introduced', data: { name: one.name } });
  });
}

function readUrl(field: string, text: string): string {
  const url = URL.canParse(text) ? new URL(text) : null;
  if (
    !url ||
    !['http:', 'https:'].includes(url.protocol) ||
    url.username !== '' ||
    url.search !== '' ||
    url.hash !== '' ||
    text.length > 500
  )
    throw badInput(field, `“${text.slice(0, 80)}” is not the address of a console.`, 'Write it like https://reserve.provider.example:8443');
  return `${url.origin}${url.pathname.replace(/\/+$/, '')}`;
}

function json(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return null;
  }
}
