import { ORDERS } from '../core/vocabulary.ts';
import * as runs from '../service/dns/check-runs.ts';
import * as checks from '../service/dns/checks.ts';
import * as host from '../service/dns/host.ts';
import * as keys from '../service/dns/keys.ts';
import { domainLetter, lettersToWrite } from '../service/dns/letters.ts';
import * as sheets from '../service/dns/record-sheets.ts';
import { explainSpf } from '../service/dns/spf.ts';
import * as zones from '../service/dns/zones.ts';
import { type Call, call, done, shortList } from './call.ts';
import * as d from './dns-schemas.ts';
import * as s from './schemas.ts';

/** Calls about what is published, and what should be. */
export const DNS_CALLS: readonly Call[] = [
  call('get', '/host', 'The host, its records and findings', { result: d.hostReport }, ({ context }) => host.hostReport(context)),
  call('post', '/host/check', 'Check the host now', { result: d.hostReport }, ({ context }) => host.checkHostAgain(context)),
  call(
    'get',
    '/host/history',
    'History of the host’s findings',
    { query: d.historyQuery, result: d.checkHistory },
    ({ context, query }) => ({
      rows: host.hostHistory(context, query),
    }),
  ),
  call('get', '/domains/:domain/records', 'The record sheet', { result: d.recordSheet }, ({ context, param }) =>
    sheets.recordSheet(context, param('domain')),
  ),
  call('get', '/domains/:domain/letter', 'Letter to the customer about DNS changes', { result: d.domainLetter }, ({ context, param }) =>
    domainLetter(context, param('domain')),
  ),
  shortList(
    '/letters',
    'Who to contact: customers whose DNS needs changes, by the last checks',
    d.letterToWrite,
    ORDERS.letters,
    (one) => `${one.domain} ${one.customer} ${one.contact ?? ''} ${one.about.join(' ')}`,
    {
      customer: (one) => one.customer,
      domain: (one) => one.domain,
      checked: (one) => one.checkedAt,
    },
    ({ context }) => lettersToWrite(context),
  ),
  call(
    'post',
    '/domains/:domain/records/publish',
    'Publish the domain’s records by dynamic update',
    { body: d.publishOptions, result: d.publication },
    ({ context, param, body }) => sheets.publishRecords(context, param('domain'), body.dryRun),
  ),
  call(
    'post',
    '/records/publish',
    'Publish the records of every configured zone',
    { body: d.publishOptions, result: d.publicationOfAll },
    ({ context, body }) => sheets.publishAll(context, body.dryRun),
  ),
  call('get', '/domains/:domain/check', 'The findings of the last check', { result: d.lastCheck }, ({ context, param }) => ({
    report: checks.lastCheck(context, param('domain')),
  })),
  call(
    'post',
    '/domains/:domain/check',
    'Check a domain now',
    { body: d.checkOptions, result: d.checkReport },
    ({ context, param, body }) =>
      checks.check(context, param('domain'), body.resolver === undefined ? null : checks.resolverAt(body.resolver)),
  ),
  call(
    'get',
    '/domains/:domain/history',
    'History of findings',
    { query: d.historyQuery, result: d.checkHistory },
    ({ context, param, query }) => ({
      rows: checks.checkHistory(context, param('domain'), query),
    }),
  ),
  call('post', '/checks', 'Check every domain, or join the running check', { result: d.checkRun }, ({ context }) =>
    runs.startCheckRun(context),
  ),
  call('get', '/checks/latest', 'The last check of every domain, running or done', { result: d.latestRun }, ({ context }) => ({
    run: context.checkRuns.latest,
  })),
  call(
    'get',
    '/spf/:domain',
    'Evaluate an SPF record step by step',
    { query: d.spfQuery, result: d.spfExplanation.array() },
    ({ context, param, query }) => explainSpf(context, param('domain'), { ip: query.ip ?? null, sender: query.sender ?? null }),
  ),
  shortList(
    '/domains/:domain/keys',
    'List a domain’s DKIM keys',
    d.key,
    ORDERS.keys,
    (one) => `${one.selector} ${one.type} ${one.state}`,
    { since: (one) => one.createdAt, selector: (one) => one.selector },
    ({ context, param }) => keys.listKeys(context, param('domain')),
  ),
  call(
    'post',
    '/domains/:domain/keys',
    'Prepare a DKIM key, or import one',
    { body: d.newKey, result: d.key },
    ({ context, param, body }) => keys.prepareKey(context, param('domain'), body),
  ),
  call('post', '/domains/:domain/keys/:selector/activate', 'Activate a key', { body: d.force, result: d.key }, ({ context, param, body }) =>
    keys.activateKey(context, param('domain'), param('selector'), body.force),
  ),
  call('post', '/domains/:domain/keys/:selector/retire', 'Retire a key', { body: d.force, result: d.key }, ({ context, param, body }) =>
    keys.retireKey(context, param('domain'), param('selector'), body.force),
  ),
  call('delete', '/domains/:domain/keys/:selector', 'Remove a key that does not sign', { result: s.nothing }, ({ context, param }) =>
    done(keys.removeKey(context, param('domain'), param('selector'))),
  ),
  shortList(
    '/zones',
    'List zones updated by this server',
    d.zone,
    ORDERS.zones,
    (one) => `${one.name} ${one.server}`,
    { name: (one) => one.name, server: (one) => one.server, since: (one) => -one.createdAt },
    ({ context }) => zones.listZones(context),
  ),
  call('put', '/zones', 'Set the server and key for updates to a zone', { body: d.zoneInput, result: d.zone }, ({ context, body }) =>
    zones.setZone(context, body),
  ),
  call('delete', '/zones/:name', 'Stop updating a zone', { result: s.nothing }, ({ context, param }) =>
    done(zones.removeZone(context, param('name'))),
  ),
];
