import * as accounts from '../service/accounts.ts';
import * as runs from '../service/check-runs.ts';
import * as checks from '../service/checks.ts';
import { clockReport, realignClock } from '../service/clock-report.ts';
import * as customers from '../service/customers.ts';
import * as domains from '../service/domains.ts';
import * as host from '../service/host.ts';
import * as journeys from '../service/journeys.ts';
import * as keys from '../service/keys.ts';
import { liftLockout, listLockouts } from '../service/lockouts.ts';
import * as mailboxes from '../service/mailboxes.ts';
import * as networks from '../service/networks.ts';
import { overview } from '../service/overview.ts';
import * as sheets from '../service/record-sheets.ts';
import { explainSpf } from '../service/spf.ts';
import * as zones from '../service/zones.ts';
import { type Call, call, done } from './call.ts';
import * as d from './dns-schemas.ts';
import { MAIL_CALLS } from './mail-calls.ts';
import * as s from './schemas.ts';

/** Every call of /api/v1 that needs a signed-in account. */
export const CALLS: readonly Call[] = [
  ...MAIL_CALLS,
  call('get', '/overview', 'What needs attention, and how much is sent', { result: s.overview }, ({ context, startedAt }) =>
    overview(context, startedAt),
  ),
  call('get', '/host', 'The host, its records, and what was found about it', { result: d.hostReport }, ({ context }) =>
    host.hostReport(context),
  ),
  call('post', '/host/check', 'Check the host now', { result: d.hostReport }, ({ context }) => host.checkHostAgain(context)),
  call('get', '/host/history', 'How the host’s findings have turned', { result: d.checkHistory }, ({ context }) => ({
    rows: host.hostHistory(context),
  })),

  call('get', '/clock', 'The machine’s clock beside the service’s time', { result: s.clockReport }, ({ context }) => clockReport(context)),
  call('post', '/clock/realign', 'Put right what was dated while the clock was wrong', { result: s.clockRealigned }, ({ context }) =>
    realignClock(context),
  ),

  call('get', '/customers', 'List customers', { result: s.customer.array() }, ({ context }) => customers.listCustomers(context)),
  call('post', '/customers', 'Add a customer', { body: s.newCustomer, result: s.customer }, ({ context, body }) =>
    customers.addCustomer(context, body.name, body.contact),
  ),
  call('get', '/customers/:name', 'Show a customer', { result: s.customer }, ({ context, param }) =>
    customers.requireCustomer(context, param('name')),
  ),
  call('patch', '/customers/:name', 'Change a customer', { body: s.customerChanges, result: s.customer }, ({ context, param, body }) =>
    customers.changeCustomer(context, param('name'), body),
  ),
  call('delete', '/customers/:name', 'Remove a customer without domains', { result: s.nothing }, ({ context, param }) =>
    done(customers.removeCustomer(context, param('name'))),
  ),

  call('get', '/plans', 'List plans', { result: s.plan.array() }, ({ context }) => customers.listPlans(context)),
  call('post', '/plans', 'Add a plan', { body: s.newPlan, result: s.plan }, ({ context, body }) => customers.addPlan(context, body)),
  call('get', '/plans/:name', 'Show a plan', { result: s.plan }, ({ context, param }) => customers.showPlan(context, param('name'))),
  call('patch', '/plans/:name', 'Change a plan', { body: s.planChanges, result: s.plan }, ({ context, param, body }) =>
    customers.changePlan(context, param('name'), defined(body)),
  ),
  call('delete', '/plans/:name', 'Remove a plan that no domain has', { result: s.nothing }, ({ context, param }) =>
    done(customers.removePlan(context, param('name'))),
  ),

  call('get', '/domains', 'List domains', { query: s.domainQuery, result: s.domainPage }, ({ context, query }) =>
    domains.listDomains(context, { ...query, customer: query.customer ?? null }),
  ),
  call('post', '/domains', 'Take a domain on', { body: s.newDomain, result: s.domain }, ({ context, body }) =>
    domains.addDomain(context, body),
  ),
  call('get', '/domains/:domain', 'Show a domain', { result: s.domain }, ({ context, param }) =>
    domains.showDomain(context, param('domain')),
  ),
  call('patch', '/domains/:domain', 'Change a domain', { body: s.domainChanges, result: s.domain }, ({ context, param, body }) =>
    domains.changeDomain(context, param('domain'), body),
  ),
  call('get', '/domains/:domain/removal', 'What removing the domain takes along', { result: s.removal }, ({ context, param }) =>
    domains.domainRemoval(context, param('domain')),
  ),
  call(
    'put',
    '/domains/:domain/twin',
    'Make the domain a twin of another',
    { body: s.twinInput, result: s.domain },
    ({ context, param, body }) => domains.setTwin(context, param('domain'), body.of),
  ),
  call('delete', '/domains/:domain/twin', 'End the twinning', { result: s.domain }, ({ context, param }) =>
    domains.setTwin(context, param('domain'), null),
  ),
  call('delete', '/domains/:domain', 'Remove a domain with all that is in it', { result: s.nothing }, ({ context, param }) =>
    done(domains.removeDomain(context, param('domain'))),
  ),

  call('get', '/domains/:domain/records', 'The record sheet', { result: d.recordSheet }, ({ context, param }) =>
    sheets.recordSheet(context, param('domain')),
  ),
  call(
    'post',
    '/domains/:domain/records/publish',
    'Bring the domain’s zone in line with its sheet by dynamic update',
    { body: d.publishOptions, result: d.publication },
    ({ context, param, body }) => sheets.publishRecords(context, param('domain'), body.dryRun),
  ),
  call(
    'post',
    '/records/publish',
    'Bring every set zone in line',
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
  call('get', '/domains/:domain/history', 'How the findings have turned', { result: d.checkHistory }, ({ context, param }) => ({
    rows: checks.checkHistory(context, param('domain')),
  })),
  call('post', '/checks', 'Start a check of every domain, or join the one under way', { result: d.checkRun }, ({ context }) =>
    runs.startCheckRun(context),
  ),
  call('get', '/checks/latest', 'The last check of every domain, under way or done', { result: d.latestRun }, ({ context }) => ({
    run: context.checkRuns.latest,
  })),
  call(
    'get',
    '/spf/:domain',
    'Evaluate an SPF record step by step',
    { query: d.spfQuery, result: d.spfExplanation.array() },
    ({ context, param, query }) => explainSpf(context, param('domain'), { ip: query.ip ?? null, sender: query.sender ?? null }),
  ),

  call('get', '/domains/:domain/keys', 'List a domain’s DKIM keys', { result: d.key.array() }, ({ context, param }) =>
    keys.listKeys(context, param('domain')),
  ),
  call(
    'post',
    '/domains/:domain/keys',
    'Prepare a DKIM key, or import one',
    { body: d.newKey, result: d.key },
    ({ context, param, body }) => keys.prepareKey(context, param('domain'), body),
  ),
  call(
    'post',
    '/domains/:domain/keys/:selector/activate',
    'Let a prepared key sign',
    { body: d.force, result: d.key },
    ({ context, param, body }) => keys.activateKey(context, param('domain'), param('selector'), body.force),
  ),
  call(
    'post',
    '/domains/:domain/keys/:selector/retire',
    'Take a key out of use',
    { body: d.force, result: d.key },
    ({ context, param, body }) => keys.retireKey(context, param('domain'), param('selector'), body.force),
  ),
  call('delete', '/domains/:domain/keys/:selector', 'Forget a key that does not sign', { result: s.nothing }, ({ context, param }) =>
    done(keys.removeKey(context, param('domain'), param('selector'))),
  ),

  call('get', '/networks', 'List trusted networks', { result: s.network.array() }, ({ context }) => networks.listNetworks(context)),
  call('post', '/networks', 'Trust a network', { body: s.newNetwork, result: s.network }, ({ context, body: { cidr, ...values } }) =>
    networks.addNetwork(context, cidr, values),
  ),
  call(
    'patch',
    '/networks',
    'Change a trusted network',
    { body: s.networkChanges, result: s.network },
    ({ context, body: { cidr, ...values } }) => networks.changeNetwork(context, cidr, values),
  ),
  call('post', '/networks/remove', 'Trust a network no more', { body: s.networkName, result: s.nothing }, ({ context, body }) =>
    done(networks.removeNetwork(context, body.cidr)),
  ),

  call('get', '/lockouts', 'List who is locked out after wrong sign-ins', { result: s.lockout.array() }, ({ context }) =>
    listLockouts(context),
  ),
  call(
    'post',
    '/lockouts/lift',
    'Let an account or an address sign in again at once',
    { body: s.lockoutName, result: s.nothing },
    ({ context, body }) => done(liftLockout(context, body.name)),
  ),

  call('get', '/zones', 'List the zones that are updated from here', { result: d.zone.array() }, ({ context }) => zones.listZones(context)),
  call('put', '/zones', 'Set where a zone takes updates', { body: d.zoneInput, result: d.zone }, ({ context, body }) =>
    zones.setZone(context, body),
  ),
  call('delete', '/zones/:name', 'Update a zone from here no more', { result: s.nothing }, ({ context, param }) =>
    done(zones.removeZone(context, param('name'))),
  ),

  call('get', '/domains/:domain/mailboxes', 'List mailboxes', { result: s.mailbox.array() }, ({ context, param }) =>
    mailboxes.listMailboxes(context, param('domain')),
  ),
  call('post', '/mailboxes', 'Add a mailbox', { body: s.newMailbox, result: s.mailboxResult }, ({ context, body }) =>
    mailboxes.addMailbox(context, body),
  ),
  call('get', '/mailboxes/:address', 'Show a mailbox', { result: s.mailbox }, ({ context, param }) =>
    mailboxes.requireMailbox(context, param('address')),
  ),
  call(
    'patch',
    '/mailboxes/:address',
    'Change a mailbox’s password or quota',
    { body: s.mailboxChanges, result: s.mailboxResult },
    ({ context, param, body }) => mailboxes.changeMailbox(context, param('address'), body),
  ),
  call('get', '/mailboxes/:address/removal', 'What removing the mailbox takes along', { result: s.removal }, ({ context, param }) =>
    mailboxes.mailboxRemoval(context, param('address')),
  ),
  call('delete', '/mailboxes/:address', 'Remove a mailbox with its messages', { result: s.nothing }, ({ context, param }) =>
    done(mailboxes.removeMailbox(context, param('address'))),
  ),

  call('get', '/domains/:domain/aliases', 'List aliases', { result: s.alias.array() }, ({ context, param }) =>
    mailboxes.listAliases(context, param('domain')),
  ),
  call('post', '/aliases', 'Add an alias', { body: s.newAlias, result: s.alias }, ({ context, body }) =>
    mailboxes.addAlias(context, body.address, body.targets),
  ),
  call('get', '/aliases/:address', 'Show an alias', { result: s.alias }, ({ context, param }) =>
    mailboxes.showAlias(context, param('address')),
  ),
  call('patch', '/aliases/:address', 'Change where an alias leads', { body: s.aliasChanges, result: s.alias }, ({ context, param, body }) =>
    mailboxes.changeAlias(context, param('address'), body.targets),
  ),
  call('get', '/aliases/:address/removal', 'What removing the alias takes along', { result: s.removal }, ({ context, param }) =>
    mailboxes.aliasRemoval(context, param('address')),
  ),
  call('delete', '/aliases/:address', 'Remove an alias', { result: s.nothing }, ({ context, param }) =>
    done(mailboxes.removeAlias(context, param('address'))),
  ),

  call('get', '/journeys', 'Search messages', { query: s.journeyQuery, result: s.journeyList }, ({ context, query }) =>
    journeys.listJourneys(context, {
      ...query,
      domain: query.domain ?? null,
      state: query.state ?? null,
      client: query.client ?? null,
      since: query.since ?? null,
      before: query.before ?? null,
    }),
  ),
  call('get', '/journeys/:id', 'One message’s way', { result: s.journeyView }, ({ context, param }) =>
    journeys.showJourney(context, param('id')),
  ),
  call('get', '/journeys/:id/text', 'One message’s way as text, for a ticket', { result: s.journeyText }, ({ context, param }) => ({
    text: journeys.journeyText(context, param('id')),
  })),
  call('get', '/journal', 'The newest journal entries', { query: s.journalQuery, result: s.journalList }, ({ context, query }) => ({
    rows: journeys.journal(context, query.domain ?? null, query.limit),
  })),

  call('get', '/tokens', 'List your API tokens', { result: s.token.array() }, ({ context, identity }) =>
    accounts.listTokens(context, identity),
  ),
  call('post', '/tokens', 'Make an API token', { body: s.newTokenBody, result: s.newTokenResult }, ({ context, identity, body }) =>
    accounts.addToken(context, identity, body.name),
  ),
  call('delete', '/tokens/:name', 'Revoke an API token', { result: s.nothing }, ({ context, identity, param }) =>
    done(accounts.removeToken(context, identity, param('name'))),
  ),
  call('get', '/sessions', 'Where you are signed in to the console', { result: s.webSession.array() }, ({ context, identity }) =>
    accounts.listSessions(context, identity),
  ),
  call(
    'post',
    '/sessions/end',
    'Sign out of one session, or of all others',
    { body: s.sessionEnd, result: s.sessionsEnded },
    ({ context, identity, body }) => accounts.endSessions(context, identity, body.id),
  ),
  call('put', '/password', 'Change your password', { body: s.passwordChange, result: s.nothing }, ({ context, identity, address, body }) =>
    done(accounts.changePassword(context, identity, address, body.current, body.next)),
  ),
];

/** Leaves out what was not given, so that a change touches only what it names. */
function defined<T extends object>(values: T): { [Key in keyof T]?: Exclude<T[Key], undefined> } {
  return Object.fromEntries(Object.entries(values).filter(([, value]) => value !== undefined)) as never;
}
