import type { PlanValues } from '../store/customers.ts';
import type { Temper } from './provider.ts';

/** The invented world of the demo: names under .example, addresses from the documentation ranges. */

export const HOST = {
  name: 'mail.faroquieto.example',
  addresses: ['192.0.2.25', '2001:db8:25::25'],
  postmaster: 'lola@faroquieto.example',
};

export const PROVIDERS: { domain: string; temper: Temper; address: string; says: string }[] = [
  {
    domain: 'northpost.example',
    temper: 'strict',
    address: '203.0.113.10',
    says: 'strict: refuses what fails DMARC, files the doubtful as junk',
  },
  { domain: 'openbay.example', temper: 'open', address: '203.0.113.20', says: 'takes everything' },
  { domain: 'slowtide.example', temper: 'slow', address: '203.0.113.30', says: 'refuses each new sender for now, and answers slowly' },
];

export interface DemoDomain {
  customer: string;
  domain: string;
  plan: string;
  role: 'home' | 'away';
  mailboxes: string[];
  aliases: Record<string, string[]>;
  /** Sends on a usual working day. */
  daily: number;
  /** Where its people sit. */
  office: string;
  subjects: string[];
}

const plan = (name: string, { hour, day }: { hour: number; day: number }, values: Partial<PlanValues>) => ({
  name,
  quotaBytes: 1024 ** 3,
  mostMailboxes: 25,
  whenFull: 'refuse' as const,
  holdMost: 500,
  holdHours: 24,
  unusual: 'flag' as const,
  brakeShare: 40,
  brakeLeast: 20,
  indexTexts: false,
  ...values,
  limits: [
    { period: 'hour' as const, quantity: 'sends' as const, amount: hour },
    { period: 'day' as const, quantity: 'sends' as const, amount: day },
  ],
  mailboxLimits: [],
});

export const PLANS = [
  plan('small', { hour: 60, day: 160 }, { quotaBytes: 1024 ** 3, mostMailboxes: 5 }),
  plan('standard', { hour: 200, day: 1000 }, { quotaBytes: 2 * 1024 ** 3, mostMailboxes: 25 }),
  // A club writes to all of its members at once, and can wait: what is too much goes in the next hours.
  plan('club', { hour: 40, day: 300 }, { quotaBytes: 1024 ** 3, mostMailboxes: 10, whenFull: 'hold' }),
  plan('newsletter', { hour: 400, day: 4000 }, { quotaBytes: 5 * 1024 ** 3, mostMailboxes: 50 }),
];

export const DOMAINS: DemoDomain[] = [
  {
    customer: 'Faro Quieto',
    domain: 'faroquieto.example',
    plan: 'standard',
    role: 'home',
    mailboxes: ['lola', 'tickets'],
    aliases: { hello: ['lola@faroquieto.example', 'tickets@faroquieto.example'] },
    daily: 24,
    office: '198.51.100.7',
    subjects: ['Re: your ticket', 'Your new mailbox is ready', 'Invoice of the month', 'Planned work on Sunday'],
  },
  {
    customer: 'Olmo Bakery',
    domain: 'olmobakery.example',
    plan: 'standard',
    role: 'home',
    mailboxes: ['ana', 'orders'],
    aliases: { info: ['ana@olmobakery.example'] },
    daily: 46,
    office: '198.51.100.40',
    subjects: ['Your order for Saturday', 'Delivery note', 'Re: birthday cake', 'Flour: order for next week'],
  },
  {
    customer: 'Ruta Verde cycling club',
    domain: 'rutaverde.example',
    plan: 'club',
    role: 'home',
    mailboxes: ['nico', 'club'],
    aliases: { board: ['nico@rutaverde.example', 'eva.ruiz@openbay.example'] },
    daily: 30,
    office: '198.51.100.52',
    subjects: ['Sunday ride: start at nine', 'Membership fee', 'Re: lost helmet', 'Route of the spring tour'],
  },
  {
    customer: 'Marisma Museum',
    domain: 'marisma-museum.example',
    plan: 'standard',
    role: 'home',
    mailboxes: ['visit', 'ines'],
    aliases: { press: ['ines@marisma-museum.example'] },
    daily: 58,
    office: '198.51.100.61',
    subjects: ['Your guided visit', 'Loan of two paintings', 'Opening on Thursday', 'Re: school group'],
  },
  {
    customer: 'Taller Nuño',
    domain: 'tallernuno.example',
    plan: 'small',
    role: 'home',
    mailboxes: ['pau'],
    aliases: { taller: ['pau@tallernuno.example'] },
    daily: 96,
    office: '198.51.100.73',
    subjects: ['Your car is ready', 'Quote for the clutch', 'Reminder: inspection', 'Re: spare part'],
  },
  {
    customer: 'Coro del Puerto',
    domain: 'coropuerto.example',
    plan: 'small',
    role: 'home',
    mailboxes: ['marta'],
    aliases: { choir: ['marta@coropuerto.example', 'bruno@openbay.example', 'sofia@northpost.example'] },
    daily: 18,
    office: '198.51.100.88',
    subjects: ['Rehearsal moved to Tuesday', 'Scores for the concert', 'Re: solo', 'Bus to the festival'],
  },
  {
    customer: 'Ibis Clinic',
    domain: 'ibisclinic.example',
    plan: 'small',
    role: 'away',
    mailboxes: [],
    aliases: {},
    daily: 0,
    office: '198.51.100.91',
    subjects: [],
  },
  {
    customer: 'Imprenta Lunar',
    domain: 'imprentalunar.example',
    plan: 'standard',
    role: 'home',
    mailboxes: ['gala', 'news'],
    aliases: {},
    daily: 70,
    office: '198.51.100.99',
    subjects: ['Proofs of your booklet', 'Paper samples', 'Re: colours of the cover', 'Your print run is done'],
  },
];

export const NEWSLETTER = { domain: 'imprentalunar.example', mailbox: 'news', subject: 'Moon letter: winter cards are here', tried: 340 };

export const RESERVE = { name: 'reserve.faroquieto.example', address: '198.51.100.25', addresses: ['198.51.100.25', '2001:db8:53::25'] };
export const OLD_HOST = { name: 'mx.oldharbour.example', address: '198.51.100.200' };
/** What takes mail at the same old provider. */
export const OLD_MAIL_HOST = { name: 'post.oldharbour.example', address: '198.51.100.201' };
/** A customer whose domain is on its way here from there. */
export const MOVING = {
  customer: 'Vela Norte',
  domain: 'velanorte.example',
  plan: 'standard',
  people: ['luz', 'iker', 'office'],
} as const;
export const CLINIC_HOST = { name: 'mx.clinicmail.example', address: '203.0.113.77' };

/** A firm that sends newsletters for others. */
export const LETTER_MILL = { name: 'send.lettermill.example', address: '203.0.113.45' };

/** A smart host that Faro Quieto has an account with: two hundred sends a day. */
export const RELAY = {
  name: 'relay.carrier.example',
  address: '203.0.113.40',
  port: 587,
  user: 'faroquieto',
  password: 'lantern-oil-and-glass',
  daily: 200,
};

/** The zones of which Faro Quieto runs the DNS itself, and the key with which they are updated. */
export const OWN_ZONES = ['faroquieto.example', 'rutaverde.example'];
export const UPDATE_KEY = { name: 'faro-updates', algorithm: 'hmac-sha256', secret: 'cXVpZXQgbGlnaHRob3VzZSBrZXk=' } as const;

/** A list of addresses that send what nobody asked for (RFC 5782). */
export const BLOCK_LIST = 'blocks.watchpost.example';

/** Every zone that the stand-in name server answers for. */
export const ZONES = [
  ...DOMAINS.map((one) => one.domain),
  ...PROVIDERS.map((one) => one.domain),
  'vivero-luna.example',
  MOVING.domain,
  'oldharbour.example',
  'clinicmail.example',
  'boxoffice.example',
  'zonekeeper.example',
  'watchpost.example',
  'carrier.example',
  'lettermill.example',
  '2.0.192.in-addr.arpa',
  '100.51.198.in-addr.arpa',
  '113.0.203.in-addr.arpa',
  '8.b.d.0.1.0.0.2.ip6.arpa',
];
