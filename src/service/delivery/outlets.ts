import { parseDomain } from '../../core/address/domain.ts';
import { isIpAddress } from '../../core/address/ip-address.ts';
import { addEntry } from '../../store/journeys.ts';
import * as store from '../../store/outlets.ts';
import { badInput, Problem } from '../base/problem.ts';
import { requireCustomer } from '../directory/customers.ts';
import { requireDomain } from '../directory/domains.ts';
import { outletsChanged } from '../limits/outlets-changed.ts';
import type { LimitUse } from '../limits/reservation.ts';
import { hostsOf, SMART_HOST_PORT } from './choose-hosts.ts';
import type { DeliveryDeps } from './deps.ts';

export interface OutletView extends store.Outlet {
  hasPassword: boolean;
  limits: LimitUse[];
}

export interface OutletInput {
  name?: string | undefined;
  kind?: store.Outlet['kind'] | undefined;
  host?: string | null | undefined;
  port?: number | null | undefined;
  tls?: store.Outlet['tls'] | undefined;
  user?: string | null | undefined;
  password?: string | null | undefined;
  sourceIpv4?: string | null | undefined;
  sourceIpv6?: string | null | undefined;
  /** Whether it is for mail of anybody; what is not said is not so where senders are named. */
  anySender?: boolean | undefined;
  customers?: readonly string[] | undefined;
  domains?: readonly string[] | undefined;
  destinations?: readonly string[] | undefined;
  position?: number | undefined;
  isOn?: boolean | undefined;
  whenSpent?: 'next' | 'wait' | undefined;
  spfInclude?: string | null | undefined;
}

const view = (context: DeliveryDeps, outlet: store.Outlet): OutletView => ({
  ...outlet,
  hasPassword: store.outletSecret(context.db, outlet.id) !== null,
  limits: context.limits.uses({ kind: 'outlet', id: outlet.id }),
});

export const listOutlets = (context: DeliveryDeps): OutletView[] => store.listOutlets(context.db).map((one) => view(context, one));

function required({ db }: DeliveryDeps, name: string): store.Outlet {
  const outlet = store.findOutlet(db, name);
  if (!outlet) throw new Problem('not-found', `There is no outlet “${name.slice(0, 80)}”.`, 'List them: tenedor outlet list');
  return outlet;
}

export const showOutlet = (context: DeliveryDeps, name: string): OutletView => view(context, required(context, name));

const EMPTY: store.OutletValues = {
  name: '',
  kind: 'smart-host',
  host: null,
  port: null,
  tls: 'required',
  user: null,
  sourceIpv4: null,
  sourceIpv6: null,
  senders: { isAny: true, customers: [], domains: [] },
  destinations: [],
  position: 100,
  isOn: true,
  whenSpent: 'wait',
  spfInclude: null,
};

/** The values that an input leads to, all checked. */
function checked(context: DeliveryDeps, before: store.OutletValues, input: OutletInput): store.OutletValues {
  const name = (input.name ?? before.name).trim();
  if (!/^[\p{L}\p{N}][\p{L}\p{N} ._-]{0,59}$/u.test(name))
    throw badInput('name', 'The name is not 1 to 60 letters, digits, spaces, dots or hyphens.', 'Choose a short name.');
  const kind = input.kind ?? before.kind;
  const host = input.host === undefined ? before.host : input.host;
  if (kind === 'direct' && host !== null)
    throw badInput('host', 'A direct outlet finds its servers by MX.', 'Leave the host out, or make it a smart host.');
  if (kind === 'smart-host' && (host === null || (!isIpAddress(host) && parseDomain(host).kind === 'invalid')))
    throw badInput('host', 'A smart host needs a server name.', 'Write it like relay.provider.example.');
  const user = input.user === undefined ? before.user : input.user;
  const tls = input.tls ?? before.tls;
  if (user !== null && kind === 'direct') throw badInput('user', 'A direct outlet does not sign in.', 'Leave user and password out.');
  if (user !== null && (tls === 'none' || tls === 'offered'))
    throw badInput('tls', 'Signing in needs TLS with a verified certificate.', 'Set TLS to “required” or “implicit”.');
  const address = (value: string | null, six: boolean, field: string): string | null => {
    if (value === null) return null;
    if (!isIpAddress(value) || value.includes(':') !== six)
      throw badInput(field, `“${value.slice(0, 60)}” is not an IPv${six ? 6 : 4} address.`, 'Give an address of this machine.');
    return value;
  };
  const pattern = (text: string): string => {
    const bare = text.trim().toLowerCase().replace(/^\*\./, '');
    const parsed = parseDomain(bare);
    if (parsed.kind === 'invalid')
      throw badInput(
        'destinations',
        `“${text.slice(0, 80)}” is not a valid pattern: ${parsed.reason}.`,
        'Write northpost.example, or *.northpost.example for all below it.',
      );
    return text.trim().startsWith('*.') ? `*.${parsed.ascii}` : parsed.ascii;
  };
  if (input.anySender && [...(input.customers ?? []), ...(input.domains ?? [])].length > 0)
    throw badInput('anySender', '“any” and named senders exclude each other.', 'Leave one of them out.');
  const known = input.anySender ? { customers: [], domains: [] } : before.senders;
  return {
    name,
    kind,
    host: host?.toLowerCase() ?? null,
    port: kind === 'direct' ? null : ((input.port === undefined ? before.port : input.port) ?? SMART_HOST_PORT),
    tls,
    user,
    sourceIpv4: address(input.sourceIpv4 === undefined ? before.sourceIpv4 : input.sourceIpv4, false, 'sourceIpv4'),
    sourceIpv6: address(input.sourceIpv6 === undefined ? before.sourceIpv6 : input.sourceIpv6, true, 'sourceIpv6'),
    senders: {
      isAny: input.anySender ?? (input.customers === undefined && input.domains === undefined && before.senders.isAny),
      customers: input.customers?.map((one) => requireCustomer(context, one, 'customers').name) ?? known.customers,
      domains: input.domains?.map((one) => requireDomain(context, one).name) ?? known.domains,
    },
    destinations: input.destinations?.map(pattern) ?? before.destinations,
    position: input.position ?? before.position,
    isOn: input.isOn ?? before.isOn,
    whenSpent: input.whenSpent ?? before.whenSpent,
    spfInclude: input.spfInclude === undefined ? before.spfInclude : input.spfInclude,
  };
}

const described = ({ name, kind, host, port, isOn, position }: store.OutletValues) => ({ name, kind, host, port, isOn, position });

export async function addOutlet(context: DeliveryDeps, input: OutletInput): Promise<OutletView> {
  const { db, clock, keyFile } = context;
  const values = checked(context, EMPTY, input);
  await db.commit(() => {
    if (store.findOutlet(db, values.name))
      throw new Problem('exists-already', `An outlet “${values.name}” already exists.`, 'Choose another name.', 'name');
    const id = store.addOutlet(db, values, clock.now());
    if (input.password) store.setOutletSecret(db, id, keyFile.seal(input.password));
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'outlet-added', data: described(values) });
  });
  await changed(context);
  return showOutlet(context, values.name);
}

/** Changes an outlet; it counts from the next attempt on. */
export async function changeOutlet(context: DeliveryDeps, name: string, input: OutletInput): Promise<OutletView> {
  const { db, clock, keyFile } = context;
  const next = await db.commit(() => {
    const before = required(context, name);
    const values = checked(context, before, input);
    const other = store.findOutlet(db, values.name);
    if (other && other.id !== before.id)
      throw new Problem('exists-already', `An outlet “${values.name}” already exists.`, 'Choose another name.', 'name');
    store.changeOutlet(db, before.id, values);
    if (input.password !== undefined) store.setOutletSecret(db, before.id, input.password === null ? null : keyFile.seal(input.password));
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain: null,
      event: 'outlet-changed',
      data: { ...described(values), password: input.password !== undefined },
    });
    return values.name;
  });
  await changed(context);
  return showOutlet(context, next);
}

export async function removeOutlet(context: DeliveryDeps, name: string): Promise<void> {
  const { db, clock } = context;
  await db.commit(() => {
    const outlet = required(context, name);
    if (store.listOutlets(db).length === 1)
      throw new Problem(
        'in-use',
        `“${outlet.name}” is the only outlet: without it no mail leaves.`,
        'Add another one first, or disable this one.',
      );
    store.removeOutlet(db, outlet.id);
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'outlet-removed', data: { name: outlet.name } });
  });
  await changed(context);
}

async function changed(context: DeliveryDeps): Promise<void> {
  await outletsChanged(context);
}

export interface OutletTest {
  outlet: string;
  works: boolean;
  steps: { step: string; good: boolean; text: string }[];
}

/** Walks an outlet's way up to the point at which a message would follow, and reports each step. Nothing is sent. */
export async function testOutlet(context: DeliveryDeps, name: string, destination: string | null): Promise<OutletTest> {
  const outlet = required(context, name);
  const steps: OutletTest['steps'] = [];
  const done = (works: boolean): OutletTest => ({ outlet: outlet.name, works, steps });
  const target = destination === null ? null : parseDomain(destination);
  if (target?.kind === 'invalid')
    throw badInput(
      'destination',
      `“${destination?.slice(0, 80)}” is not a domain name: ${target.reason}.`,
      'Write it like northpost.example.',
    );
  if (outlet.kind === 'direct' && target === null)
    throw badInput(
      'destination',
      'A direct outlet delivers to many servers.',
      'Name a domain to test: tenedor outlet test NAME --to northpost.example',
    );
  const found = await hostsOf(context, outlet, target?.ascii ?? '', (values) => values);
  if (found.kind !== 'hosts') {
    steps.push({ step: 'look-up', good: false, text: found.reason });
    return done(false);
  }
  steps.push({ step: 'look-up', good: true, text: found.hosts.map((one) => `${one.name} [${one.address}] port ${one.port}`).join(', ') });
  for (const host of found.hosts.slice(0, 3)) {
    const walk = await context.walk(host);
    steps.push(...walk.map((one) => ({ ...one, text: found.hosts.length > 1 ? `${host.address}: ${one.text}` : one.text })));
    if (walk.every((one) => one.good)) return done(true);
  }
  return done(false);
}
