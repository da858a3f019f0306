import { expect, it } from 'vitest';
import { type Finding, needsWork } from '../../../src/core/checks/finding.ts';
import { parseDmarc } from '../../../src/core/dmarc/record.ts';
import { evaluateSpf } from '../../../src/core/spf/evaluate.ts';
import { isSpf } from '../../../src/core/spf/record.ts';
import { POLICIES, type Subject, type Verdict } from '../../../src/core/vocabulary.ts';
import { at, type Entry, lookupIn } from '../../support/lookup.ts';
import { about, DOMAIN, dkim, dkimName, dmarc, FACTS, GOOD, HOST, KEY, mx, OTHER, ptr, spf, typed, without } from '../../support/shop.ts';

/**
 * What DNS looks like out there. For each situation: what must be said of it, and then, by one rule for all, that typing in what is proposed
 * mends it and makes nothing worse: who could send can still, no stranger can, and no policy is milder than before.
 */

const US = 'a:mail.host.example';
const noSpf = (...more: Entry[]): Entry[] => [...without('TXT', 'spf1'), ...more];
const policy = `_dmarc.${DOMAIN}`;
const instead = (name: string, ...entries: Entry[]): Entry[] => [...GOOD.filter(([owner]) => owner !== name), ...entries];
const many = (count: number, of: (at: number) => Entry): Entry[] => Array.from({ length: count }, (_none, number) => of(number));
const senders = many(14, (number) => at(`s${number}.example`, 'TXT', `v=spf1 ip4:198.51.100.${number} -all`));
const includes = (count: number): string =>
  senders
    .slice(0, count)
    .map(([name]) => `include:${name}`)
    .join(' ');
const machines = many(12, (number) => at(`m${number}.example`, 'TXT', `v=spf1 exists:%{i}.m${number}.example -all`));
const lagging = instead(HOST.name, at(HOST.name, 'A', '192.0.2.25'));
const key = `v=DKIM1; k=rsa; p=${KEY.publicKey}`;
const SRV = { ...FACTS, host: { ...HOST, services: { submissions: 465, pop3s: 9950 } } };
const srv = (name: string, value: string): Entry[] => [...GOOD, at(`_${name}._tcp.${DOMAIN}`, 'SRV', value)];

/** What the situation is, the subject, its code and verdict, what is published, further facts, and what must be (or must not be) in the words. */
type Situation = [what: string, Subject | 'discovery', string, Verdict, Entry[], Partial<typeof FACTS>?, RegExp?];

const SITUATIONS: Situation[] = [
  // Where mail comes in.
  [
    'the host twice, with two numbers',
    'mx',
    'mx-twice',
    'weak',
    mx('10 mail.host.example', '50 mail.host.example', '20 reserve.host.example'),
    {},
    /mail\.host\.example is published more than once/,
  ],
  ['the standby host twice', 'mx', 'mx-twice', 'weak', mx('10 mail.host.example', '20 reserve.host.example', '30 reserve.host.example')],
  ['a null MX beside ours', 'mx', 'mx-null-beside', 'wrong', mx('0 ', '10 mail.host.example', '20 reserve.host.example'), {}, /null MX/],
  ['a null MX alone', 'mx', 'mx-null', 'wrong', mx('0 ')],
  ['an address as target', 'mx', 'mx-address', 'wrong', mx('10 192.0.2.25')],
  ['an IPv6 address as target', 'mx', 'mx-address', 'wrong', mx('10 2001:db8:25::25')],
  ['the zone appended to the target', 'mx', 'mx-doubled-target', 'wrong', mx('10 mail.host.example.shop.example')],
  [
    'the zone appended, and a wildcard that answers for it',
    'mx',
    'mx-doubled-target',
    'wrong',
    [...mx('10 mail.host.example.shop.example'), at('*.shop.example', 'A', '203.0.113.9')],
  ],
  [
    'a target that is an alias of us',
    'mx',
    'mx-alias',
    'wrong',
    [...mx('10 post.shop.example', '20 reserve.host.example'), at('post.shop.example', 'CNAME', 'mail.host.example')],
  ],
  [
    'our own name as an alias',
    'mx',
    'mx-alias',
    'wrong',
    instead(
      HOST.name,
      at(HOST.name, 'CNAME', 'box.host.example'),
      at('box.host.example', 'A', '192.0.2.25'),
      at('box.host.example', 'AAAA', '2001:db8:25::25'),
    ),
    {},
    /alias \(CNAME\) of box/,
  ],
  ['the old server first', 'mx', 'mx-left-over', 'wrong', mx('5 mx.other.example', '10 mail.host.example', '20 reserve.host.example')],
  ['the old server last', 'mx', 'mx-left-over', 'weak', mx('90 mx.other.example', '10 mail.host.example', '20 reserve.host.example')],
  [
    'a dead target beside us',
    'mx',
    'mx-target-unresolved',
    'wrong',
    mx('5 gone.other.example', '10 mail.host.example', '20 reserve.host.example'),
  ],
  ['only the standby host', 'mx', 'mx-standby-only', 'wrong', mx('10 reserve.host.example')],
  ['the standby host at our number', 'mx', 'mx-order', 'wrong', mx('10 mail.host.example', '10 reserve.host.example')],
  ['no standby host', 'mx', 'mx-standby-missing', 'weak', mx('10 mail.host.example')],
  ['the host in capitals is the host', 'mx', 'mx-good', 'good', GOOD],
  [
    'a domain that is an alias as a whole',
    'mx',
    'mx-behind-alias',
    'wrong',
    [...GOOD.filter(([name]) => name !== DOMAIN), at(DOMAIN, 'CNAME', 'web.far.example'), at('web.far.example', 'A', '203.0.113.80')],
    {},
    /shop\.example is an alias \(CNAME\) of web\.far\.example/,
  ],
  ['no domain at all', 'mx', 'mx-none', 'missing', GOOD.filter(([name]) => !name.endsWith('shop.example')), {}, /does not exist/],
  ['the host’s second address not yet in DNS', 'mx', 'mx-host-unresolved', 'wrong', lagging, {}, /2001:db8:25::25/],

  // Who may send.
  [
    'the host’s second address not yet in DNS: the record is right',
    'spf',
    'spf-host-unresolved',
    'wrong',
    lagging,
    {},
    /does not resolve to 2001:db8:25::25 yet/,
  ],
  ['no record', 'spf', 'spf-none', 'missing', noSpf()],
  ['two records', 'spf', 'spf-several', 'wrong', [...GOOD, at(DOMAIN, 'TXT', 'v=spf1 ip4:203.0.113.9 ~all')]],
  ['two equal records', 'spf', 'spf-several', 'wrong', [...GOOD, at(DOMAIN, 'TXT', `v=spf1 ${US} -all`)]],
  ['quotes in the text', 'spf', 'spf-quotes', 'wrong', noSpf(at(DOMAIN, 'TXT', `"v=spf1 ${US} -all"`)), {}, /quotes/],
  ['curly quotes in the text', 'spf', 'spf-quotes', 'wrong', noSpf(at(DOMAIN, 'TXT', `“v=spf1 ${US} -all”`))],
  ['a blank before it', 'spf', 'spf-not-read', 'wrong', noSpf(at(DOMAIN, 'TXT', ` v=spf1 ${US} -all`))],
  ['a semicolon behind the version', 'spf', 'spf-not-read', 'wrong', noSpf(at(DOMAIN, 'TXT', `v=spf1; ${US} -all`))],
  ['a blank inside the version', 'spf', 'spf-not-read', 'wrong', noSpf(at(DOMAIN, 'TXT', `v = spf1 ${US} -all`))],
  ['the name typed before the value', 'spf', 'spf-not-read', 'wrong', noSpf(at(DOMAIN, 'TXT', `shop.example. TXT v=spf1 ${US} -all`))],
  ['a record of another kind beside ours', 'spf', 'spf-good', 'good', [...GOOD, at(DOMAIN, 'TXT', 'site-check=spf1')]],
  ['the version in capitals', 'spf', 'spf-good', 'good', spf(`V=SPF1 ${US} -ALL`)],
  ['under a doubled name', 'spf', 'spf-doubled', 'wrong', noSpf(at('shop.example.shop.example', 'TXT', `v=spf1 ${US} -all`))],
  [
    'a wildcard that has SPF for every name: none is doubled',
    'spf',
    'spf-none',
    'missing',
    noSpf(at('*.shop.example', 'TXT', 'v=spf1 -all')),
  ],
  ['anyone, by +all', 'spf', 'spf-anyone', 'wrong', spf(`v=spf1 ${US} +all`)],
  ['anyone, by all without a sign', 'spf', 'spf-anyone', 'wrong', spf(`v=spf1 ${US} all`)],
  ['anyone, by a network of the whole world', 'spf', 'spf-anyone', 'wrong', spf(`v=spf1 ${US} ip4:0.0.0.0/0 -all`), {}, /0\.0\.0\.0\/0/],
  ['anyone, by two halves of the world', 'spf', 'spf-anyone', 'wrong', spf(`v=spf1 ip4:0.0.0.0/1 ip4:128.0.0.0/1 ${US} -all`)],
  ['anyone by IPv6', 'spf', 'spf-anyone', 'wrong', spf(`v=spf1 ${US} ip6:::/0 -all`)],
  ['anyone, by our own host’s whole family', 'spf', 'spf-anyone', 'wrong', spf('v=spf1 a:mail.host.example/0 a:mail.host.example -all')],
  [
    'anyone, by an include that is open',
    'spf',
    'spf-anyone',
    'wrong',
    spf(`v=spf1 ${US} include:open.example -all`, at('open.example', 'TXT', 'v=spf1 +all')),
  ],
  [
    'anyone, by an include of an include',
    'spf',
    'spf-anyone',
    'wrong',
    spf(
      `v=spf1 ${US} include:near.example -all`,
      at('near.example', 'TXT', 'v=spf1 include:open.example -all'),
      at('open.example', 'TXT', 'v=spf1 all'),
    ),
  ],
  [
    'anyone, by a redirect',
    'spf',
    'spf-anyone',
    'wrong',
    spf(`v=spf1 ${US} redirect=open.example`, at('open.example', 'TXT', 'v=spf1 +all')),
  ],
  ['neutral at the end', 'spf', 'spf-neutral-end', 'weak', spf(`v=spf1 ${US} ?all`)],
  [
    'neutral by a redirect',
    'spf',
    'spf-neutral-end',
    'weak',
    spf(`v=spf1 ${US} redirect=soft.example`, at('soft.example', 'TXT', 'v=spf1 ip4:203.0.113.7 ?all')),
    {},
    /soft\.example/,
  ],
  ['no end', 'spf', 'spf-no-end', 'weak', spf(`v=spf1 ${US}`)],
  ['softfail at the end is said', 'spf', 'spf-good', 'good', spf(`v=spf1 ${US} ~all`), {}, /others get softfail/],
  ['fail at the end is said', 'spf', 'spf-good', 'good', GOOD, {}, /others get fail/],
  [
    'an include to nothing behind our term',
    'spf',
    'spf-permerror',
    'wrong',
    spf(`v=spf1 ${US} include:gone.example -all`),
    {},
    /gone\.example/,
  ],
  [
    'a redirect to nothing behind our term',
    'spf',
    'spf-permerror',
    'wrong',
    spf(`v=spf1 ${US} redirect=gone.example`),
    {},
    /gone\.example/,
  ],
  [
    'an include with two records',
    'spf',
    'spf-permerror',
    'wrong',
    spf(`v=spf1 ${US} include:two.example -all`, at('two.example', 'TXT', 'v=spf1 -all'), at('two.example', 'TXT', 'v=spf1 mx -all')),
  ],
  [
    'an include whose record is broken',
    'spf',
    'spf-permerror',
    'wrong',
    spf(`v=spf1 ${US} include:bad.example -all`, at('bad.example', 'TXT', 'v=spf1 ip4:1.2.3 -all')),
  ],
  [
    'includes in a circle',
    'spf',
    'spf-permerror',
    'wrong',
    spf(
      `v=spf1 ${US} include:one.example -all`,
      at('one.example', 'TXT', 'v=spf1 include:two.example -all'),
      at('two.example', 'TXT', 'v=spf1 include:one.example -all'),
    ),
  ],
  ['an include of itself', 'spf', 'spf-permerror', 'wrong', spf(`v=spf1 ${US} include:shop.example -all`)],
  [
    'three names that lead nowhere, behind our term',
    'spf',
    'spf-void',
    'wrong',
    spf(`v=spf1 ${US} a:x1.example a:x2.example a:x3.example -all`),
  ],
  ['two names that lead nowhere are allowed', 'spf', 'spf-good', 'good', spf(`v=spf1 ${US} a:x1.example a:x2.example -all`)],
  ['eleven includes, each of one network', 'spf', 'spf-too-many-lookups', 'wrong', spf(`v=spf1 ${US} ${includes(11)} -all`, ...senders)],
  [
    'an include that asks too much by itself',
    'spf',
    'spf-too-many-lookups',
    'wrong',
    spf(`v=spf1 ${US} include:wide.example -all`, at('wide.example', 'TXT', `v=spf1 ${includes(12)} -all`), ...senders),
  ],
  [
    'includes of includes, over ten',
    'spf',
    'spf-too-many-lookups',
    'wrong',
    spf(
      `v=spf1 ${US} include:left.example include:right.example -all`,
      at('left.example', 'TXT', `v=spf1 ${includes(5)} -all`),
      at('right.example', 'TXT', `v=spf1 ${includes(6)} mx:shop.example -all`),
      ...senders,
    ),
  ],
  [
    'twelve includes that can’t be written out',
    'spf',
    'spf-too-many-lookups',
    'wrong',
    spf(`v=spf1 ${US} ${machines.map(([name]) => `include:${name}`).join(' ')} -all`, ...machines),
    {},
    /cannot be reduced to 10 look-ups/,
  ],
  ['our host left out', 'spf', 'spf-host-left-out', 'wrong', spf('v=spf1 ip4:203.0.113.9 -all')],
  ['our host by one address of two', 'spf', 'spf-host-left-out', 'wrong', spf('v=spf1 ip4:192.0.2.25 -all'), {}, /2001:db8:25::25/],
  ['our host behind the end', 'spf', 'spf-host-left-out', 'wrong', spf(`v=spf1 ip4:203.0.113.9 -all ${US}`)],
  ['our host shut out by name', 'spf', 'spf-host-left-out', 'wrong', spf('v=spf1 -a:mail.host.example mx -all')],
  ['our host by its own networks', 'spf', 'spf-good', 'good', spf('v=spf1 ip4:192.0.2.0/24 ip6:2001:db8:25::/48 -all')],
  ['our host by mx', 'spf', 'spf-good', 'good', spf('v=spf1 mx -all')],
  [
    'terms twice, in two spellings',
    'spf',
    'spf-neutral-end',
    'weak',
    spf(`v=spf1 ${US} +A:mail.host.example ip4:203.0.113.9 ip4:203.0.113.9/32 a a:shop.example ?all`),
  ],
  [
    'the smart host left out',
    'spf',
    'spf-outlet-left-out',
    'wrong',
    [...GOOD, at('spf.relay.example', 'TXT', 'v=spf1 ip4:203.0.113.50 -all')],
    { host: { ...HOST, outletIncludes: ['spf.relay.example'] } },
  ],
  ['a broken network', 'spf', 'spf-syntax', 'wrong', spf(`v=spf1 ${US} ip4:203.0.113.9/33 -all`)],
  ['a word that is no term', 'spf', 'spf-syntax', 'wrong', spf(`v=spf1 ${US} please -all`)],
  ['ptr', 'spf', 'spf-ptr', 'weak', spf(`v=spf1 ${US} ptr -all`)],
  ['the retired type', 'spf', 'spf-old-type', 'wrong', noSpf(at(DOMAIN, 'SPF', `v=spf1 ${US} -all`))],

  // The key.
  ['a wildcard in place of the key', 'dkim', 'dkim-none', 'missing', [...dkim(), at('*.shop.example', 'TXT', 'hello')]],
  [
    'a wildcard with SPF in place of the key',
    'dkim',
    'dkim-none',
    'missing',
    [...dkim(), at('*.shop.example', 'TXT', 'v=spf1 -all')],
    {},
    /No key is published/,
  ],
  [
    'the key through an alias',
    'dkim',
    'dkim-good',
    'good',
    [...dkim(), at(dkimName, 'CNAME', 'k1.keys.example'), at('k1.keys.example', 'TXT', key)],
  ],
  [
    'an alias to nothing where the key should be',
    'dkim',
    'dkim-behind-alias',
    'wrong',
    [...dkim(), at(dkimName, 'CNAME', 'k1.keys.example')],
    {},
    /k1\._domainkey\.shop\.example is an alias \(CNAME\) of k1\.keys\.example/,
  ],
  [
    'an alias to another key',
    'dkim',
    'dkim-behind-alias',
    'wrong',
    [...dkim(), at(dkimName, 'CNAME', 'k1.keys.example'), at('k1.keys.example', 'TXT', `v=DKIM1; p=${OTHER.publicKey}`)],
    {},
    /The published key is not the one/,
  ],
  [
    'all names below a DNAME',
    'dkim',
    'dkim-behind-alias',
    'wrong',
    [...dkim(), at(`_domainkey.${DOMAIN}`, 'DNAME', 'keys.example')],
    {},
    /below the DNAME of _domainkey\.shop\.example/,
  ],
  ['under a doubled name', 'dkim', 'dkim-doubled', 'wrong', [...dkim(), at(`${dkimName}.${DOMAIN}`, 'TXT', key)]],
  ['cut at 255', 'dkim', 'dkim-cut-short', 'wrong', dkim(key.slice(0, 255))],
  ['with quotes', 'dkim', 'dkim-quotes', 'wrong', dkim(`"${key}"`)],
  ['two records', 'dkim', 'dkim-several', 'wrong', dkim(key, `v=DKIM1; p=${OTHER.publicKey}`)],
  ['a CNAME’s text beside it', 'dkim', 'dkim-several', 'wrong', dkim(key, 'hello')],
  ['no version tag', 'dkim', 'dkim-good', 'good', dkim(`k=rsa; p=${KEY.publicKey}`)],
  [
    'blanks inside the key',
    'dkim',
    'dkim-good',
    'good',
    dkim(`v=DKIM1; k=rsa; p=${KEY.publicKey.slice(0, 100)} ${KEY.publicKey.slice(100)}`),
  ],
  ['no key that signs', 'dkim', 'dkim-no-key', 'missing', GOOD, { keys: [] }],

  // The policy.
  [
    'a wildcard in place of the policy',
    'dmarc',
    'dmarc-none',
    'missing',
    [...dmarc(), at('*.shop.example', 'TXT', 'hello')],
    {},
    /No DMARC policy is published/,
  ],
  [
    'a wildcard that is a policy',
    'dmarc',
    'dmarc-good',
    'good',
    [...dmarc(), at('*.shop.example', 'TXT', 'v=DMARC1; p=reject; rua=mailto:d@shop.example')],
  ],
  ['other texts beside the policy', 'dmarc', 'dmarc-good', 'good', dmarc('v=DMARC1; p=reject', 'site-check=1')],
  ['only other texts', 'dmarc', 'dmarc-not-read', 'wrong', dmarc('site-check=1'), {}, /“site-check=1”/],
  ['small letters', 'dmarc', 'dmarc-not-read', 'wrong', dmarc('v=dmarc1; p=reject'), {}, /capitals/],
  ['quotes', 'dmarc', 'dmarc-not-read', 'wrong', dmarc('"v=DMARC1; p=reject"'), {}, /without quotes/],
  ['no semicolon behind the version', 'dmarc', 'dmarc-not-read', 'wrong', dmarc('v=DMARC1 p=reject'), {}, /“v=DMARC1;”/],
  ['pct=0', 'dmarc', 'dmarc-partly', 'weak', dmarc('v=DMARC1; p=reject; pct=0; rua=mailto:d@shop.example')],
  ['pct=50', 'dmarc', 'dmarc-partly', 'weak', dmarc('v=DMARC1; p=quarantine; pct=50')],
  ['pct=20 of p=none says nothing', 'dmarc', 'dmarc-watching', 'good', dmarc('v=DMARC1; p=none; pct=20; rua=mailto:d@shop.example')],
  ['p=none without reports', 'dmarc', 'dmarc-no-reports', 'weak', dmarc('v=DMARC1; p=none')],
  ['a broken rua beside p=reject', 'dmarc', 'dmarc-syntax', 'wrong', dmarc('v=DMARC1; p=reject; rua=postmaster')],
  ['a weaker policy for subdomains', 'dmarc', 'dmarc-subdomains-weaker', 'weak', dmarc('v=DMARC1; p=reject; sp=none')],
  ['two policies', 'dmarc', 'dmarc-several', 'wrong', dmarc('v=DMARC1; p=reject', 'v=DMARC1; p=none')],
  ['under a doubled name', 'dmarc', 'dmarc-doubled', 'wrong', [...dmarc(), at(`${policy}.${DOMAIN}`, 'TXT', 'v=DMARC1; p=none')]],
  ['at the domain itself', 'dmarc', 'dmarc-at-root', 'wrong', [...dmarc(), at(DOMAIN, 'TXT', 'v=DMARC1; p=none')]],
  [
    'an alias to a policy',
    'dmarc',
    'dmarc-good',
    'good',
    [...dmarc(), at(policy, 'CNAME', 'policy.host.example'), at('policy.host.example', 'TXT', 'v=DMARC1; p=reject')],
  ],
  [
    'an alias to nothing',
    'dmarc',
    'dmarc-behind-alias',
    'wrong',
    [...dmarc(), at(policy, 'CNAME', 'gone.host.example')],
    {},
    /alias \(CNAME\) of gone\.host\.example/,
  ],
  [
    'reports to somebody who has not agreed',
    'dmarc',
    'dmarc-reports-not-agreed',
    'weak',
    dmarc('v=DMARC1; p=reject; rua=mailto:x@reports.example'),
  ],
  [
    'reports to somebody who agrees to all',
    'dmarc',
    'dmarc-good',
    'good',
    [...dmarc('v=DMARC1; p=reject; rua=mailto:x@reports.example'), at('*._report._dmarc.reports.example', 'TXT', 'v=DMARC1')],
  ],

  // The names of our addresses.
  [
    'a name of ours that sounds like a line',
    'reverse',
    'reverse-good',
    'good',
    [
      ...ptr(['mail.cable-works.example'], ['mail.cable-works.example']),
      at('mail.cable-works.example', 'A', '192.0.2.25'),
      at('mail.cable-works.example', 'AAAA', '2001:db8:25::25'),
    ],
    { host: { ...HOST, name: 'mail.cable-works.example' } },
  ],
  ['a name made from the address', 'reverse', 'reverse-generic', 'wrong', ptr(['h-192-0-2-25.lines.example'])],
  [
    'a company that is called Dial',
    'reverse',
    'reverse-other-name',
    'wrong',
    [...ptr(['mail.dial-co.example']), at('mail.dial-co.example', 'A', '192.0.2.25')],
  ],
  [
    'a name that does not lead back',
    'reverse',
    'reverse-unconfirmed',
    'wrong',
    [...ptr(['mail.host.example']).filter(([name, type]) => !(name === HOST.name && type === 'A')), at(HOST.name, 'A', '192.0.2.99')],
  ],

  // Mail programs.
  ['nothing published for mail programs', 'discovery', 'discovery-none', 'good', GOOD, SRV],
  [
    'the ports that are open',
    'discovery',
    'discovery-good',
    'good',
    [...srv('submissions', '0 1 465 mail.host.example'), at(`_pop3s._tcp.${DOMAIN}`, 'SRV', '0 1 9950 mail.host.example')],
    SRV,
  ],
  ['a port that is closed', 'discovery', 'discovery-closed', 'wrong', srv('pop3s', '0 1 995 mail.host.example'), SRV, /port 995/],
  ['a service that is not offered', 'discovery', 'discovery-closed', 'wrong', srv('pop3', '0 1 110 mail.host.example'), SRV],
  [
    'another server',
    'discovery',
    'discovery-elsewhere',
    'wrong',
    srv('submissions', '0 1 465 mail.old.example'),
    SRV,
    /mail\.old\.example/,
  ],
  ['“not offered” for what is not offered', 'discovery', 'discovery-good', 'good', srv('pop3', '0 0 0 .'), SRV],

  // Domains whose mailboxes are elsewhere.
  ['away, with a record that is open', 'spf', 'spf-anyone', 'wrong', spf('v=spf1 ip4:203.0.113.9 +all'), { role: 'away', keys: [] }],
  [
    'away, without our host in the record',
    'spf',
    'spf-elsewhere-good',
    'good',
    spf('v=spf1 ip4:203.0.113.9 -all'),
    { role: 'away', keys: [] },
  ],
  ['away, without a record', 'spf', 'spf-none', 'missing', noSpf(), { role: 'away', keys: [] }],
  [
    'pass-on, sent from here, without our host',
    'spf',
    'spf-host-left-out',
    'wrong',
    spf('v=spf1 ip4:203.0.113.9 -all'),
    { role: 'pass-on', sends: true },
  ],
  ['standby, without a policy', 'dmarc', 'dmarc-none', 'missing', dmarc(), { role: 'standby', keys: [] }],
  ['away, signed by nobody here', 'dkim', 'dkim-elsewhere', 'good', GOOD, { role: 'away', keys: [] }],
];

it('there are a hundred of them at least', () => {
  expect(SITUATIONS.length).toBeGreaterThanOrEqual(100);
});

it.each(SITUATIONS)('%s: %s', async (what, subject, code, verdict, entries, facts = {}, words) => {
  const before = await about(subject as Subject, entries, facts);
  const said = JSON.stringify(before.map(({ headline, remedy, seen }) => [headline, remedy, seen]));
  const one = before.find((finding) => finding.code === code);
  expect([one?.code, one?.verdict], said).toEqual([code, verdict]);
  if (verdict === 'good') expect(before, said).toHaveLength(1);
  // A mild fault that hides behind a worse one of the same subject would be a false alarm.
  else if (verdict === 'weak')
    expect(
      before.filter(needsWork).map((finding) => finding.verdict),
      said,
    ).not.toContain('wrong');
  if (words) expect(said).toMatch(words);
  const proposed = before.flatMap((finding) => finding.publish);
  if (proposed.length === 0) return;
  const aliases = new Set(proposed.map((record) => record.name));
  // What the words ask for beside the typing: aliases away, misplaced records gone.
  const isInTheWay = ([name, type]: Entry): boolean =>
    (type === 'SRV' && subject === 'discovery') ||
    ((type === 'CNAME' || type === 'DNAME') && [...aliases].some((owner) => owner === name || owner.endsWith(`.${name}`)));
  const cleared = entries.filter((one) => !isInTheWay(one));
  const after = typed(cleared, proposed);
  const then = await about(subject as Subject, after, facts);
  const worst = (findings: Finding[]): string[] =>
    findings
      .filter((finding) => finding.verdict === 'wrong' || finding.verdict === 'missing')
      .map((finding) => `${finding.code}: ${finding.headline}`);
  expect(worst(then), `${what}, after ${JSON.stringify(proposed.map(({ value }) => value))}`).toEqual([]);
  await nothingWorse(entries, after);
  for (const { value, type } of proposed)
    if (type === 'TXT' && isSpf(value)) expect(new Set(value.toLowerCase().split(' ')).size, value).toBe(value.split(' ').length);
});

const SENDERS = ['192.0.2.25', '2001:db8:25::25', '203.0.113.9', '203.0.113.7', ...senders.map((_one, number) => `198.51.100.${number}`)];
const STRANGERS = ['203.0.113.200', '192.0.2.201', '2001:db8:bad::1'];

async function nothingWorse(before: Entry[], after: Entry[]): Promise<void> {
  const policyOf = (entries: Entry[]): number => {
    const policies = entries.filter(([name, type, value]) => name === policy && type === 'TXT' && value.startsWith('v=DMARC1'));
    const parsed = policies.length === 1 ? parseDmarc(policies[0]?.[2] ?? '') : null;
    return parsed?.kind === 'ok' ? POLICIES.indexOf(parsed.record.policy) : 0;
  };
  expect(policyOf(after)).toBeGreaterThanOrEqual(policyOf(before));
  const result = async (entries: Entry[], clientAddress: string): Promise<string> =>
    (await evaluateSpf({ clientAddress, sender: `a@${DOMAIN}`, domain: DOMAIN, helo: 'h.example' }, lookupIn(entries))).result;
  const passes = async (entries: Entry[], addresses: readonly string[]): Promise<string[]> => {
    const results = await Promise.all(addresses.map((address) => result(entries, address)));
    return addresses.filter((_address, number) => results[number] === 'pass');
  };
  const open = await passes(before, STRANGERS);
  expect(await passes(after, STRANGERS)).toEqual([]);
  // Whoever was let in by name is let in still; with everybody let in, nobody was named.
  if (open.length === 0) expect(await passes(after, SENDERS)).toEqual(expect.arrayContaining(await passes(before, SENDERS)));
}
