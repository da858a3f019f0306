import { ORDERS } from '../core/vocabulary.ts';
import type { ServiceContext } from '../service/app/context.ts';
import * as customers from '../service/directory/customers.ts';
import * as domains from '../service/directory/domains.ts';
import * as networks from '../service/directory/networks.ts';
import * as removal from '../service/directory/remove-domain.ts';
import { type DomainView, listDomains, showDomain } from '../service/overview/domain-view.ts';
import { type Call, type Current, call, done, paged, pages, shortList } from './call.ts';
import * as s from './schemas.ts';

/** A network holds a slash, so its name is in the body. */
const THE_NETWORK: Current = {
  kind: 'network',
  result: s.network,
  read: ({ context, body }) => networks.requireNetwork(context, (body as { cidr: string }).cidr),
};

const THE_DOMAIN: Current = {
  kind: '/domains/:domain',
  result: s.domain,
  read: ({ context, param }) => showDomain(context, param('domain')),
};

/** A domain as it is after a change. */
const changed = async (change: Promise<void>, context: ServiceContext, name: string): Promise<DomainView> => {
  await change;
  return showDomain(context, name);
};

/** Calls about customers, plans, domains and networks. */
export const DIRECTORY_CALLS: readonly Call[] = [
  pages('/customers', 'List customers', s.customer, ORDERS.customers, ({ context }, asked) => customers.listCustomers(context, asked)),
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
  shortList(
    '/plans',
    'List plans',
    s.plan,
    ORDERS.plans,
    (one) => one.name,
    { name: (one) => one.name, domains: (one) => -one.domains },
    ({ context }) => customers.listPlans(context),
  ),
  call('post', '/plans', 'Add a plan', { body: s.newPlan, result: s.plan }, ({ context, body }) => customers.addPlan(context, body)),
  call('get', '/plans/:name', 'Show a plan', { result: s.plan }, ({ context, param }) => customers.showPlan(context, param('name'))),
  call('patch', '/plans/:name', 'Change a plan', { body: s.planChanges, result: s.plan }, ({ context, param, body }) =>
    customers.changePlan(context, param('name'), defined(body)),
  ),
  call('delete', '/plans/:name', 'Remove an unused plan', { result: s.nothing }, ({ context, param }) =>
    done(customers.removePlan(context, param('name'))),
  ),
  call('get', '/domains', 'List domains', { query: s.domainQuery, result: s.domainPage }, ({ context, query }) =>
    paged(query, (asked) => listDomains(context, { ...asked, customer: query.customer ?? null })),
  ),
  call('post', '/domains', 'Add a domain', { body: s.newDomain, result: s.domain }, ({ context, body }) =>
    domains.addDomain(context, body).then((name) => showDomain(context, name)),
  ),
  call('get', '/domains/:domain', 'Show a domain', { result: s.domain }, ({ context, param }) => showDomain(context, param('domain'))),
  call('patch', '/domains/:domain', 'Change a domain', { body: s.domainChanges, result: s.domain }, ({ context, param, body }) =>
    changed(domains.changeDomain(context, param('domain'), body), context, param('domain')),
  ),
  call(
    'get',
    '/domains/:domain/recipients',
    'List the recipients known for a domain whose mailboxes are elsewhere; null if its own server is asked',
    { result: s.recipientNames },
    ({ context, param }) => ({ recipients: domains.listRecipients(context, param('domain')) }),
  ),
  call('get', '/domains/:domain/removal', 'What removing the domain also removes', { result: s.removal }, ({ context, param }) =>
    removal.domainRemoval(context, param('domain')),
  ),
  call(
    'put',
    '/domains/:domain/twin',
    'Make the domain a twin of another',
    { body: s.twinInput, result: s.domain, current: THE_DOMAIN },
    ({ context, param, body }) => changed(domains.setTwin(context, param('domain'), body.of), context, param('domain')),
  ),
  call('delete', '/domains/:domain/twin', 'End the twin', { result: s.domain, current: THE_DOMAIN }, ({ context, param }) =>
    changed(domains.setTwin(context, param('domain'), null), context, param('domain')),
  ),
  call('delete', '/domains/:domain', 'Remove a domain with everything in it', { result: s.nothing }, ({ context, param }) =>
    done(removal.removeDomain(context, param('domain'))),
  ),
  shortList(
    '/networks',
    'List trusted networks',
    s.network,
    ORDERS.networks,
    (one) => `${one.cidr} ${one.note} ${one.domains.join(' ')}`,
    { network: (one) => one.cidr, note: (one) => one.note, since: (one) => -one.createdAt },
    ({ context }) => networks.listNetworks(context),
  ),
  call('post', '/networks', 'Trust a network', { body: s.newNetwork, result: s.network }, ({ context, body: { cidr, ...values } }) =>
    networks.addNetwork(context, cidr, values),
  ),
  call(
    'patch',
    '/networks',
    'Change a trusted network',
    { body: s.networkChanges, result: s.network, current: THE_NETWORK },
    ({ context, body: { cidr, ...values } }) => networks.changeNetwork(context, cidr, values),
  ),
  call(
    'post',
    '/networks/remove',
    'Remove a trusted network',
    { body: s.networkName, result: s.nothing, current: THE_NETWORK },
    ({ context, body }) => done(networks.removeNetwork(context, body.cidr)),
  ),
];

/** Leaves out what was not given, so that a change touches only what it names. */
function defined<T extends object>(values: T): { [Key in keyof T]?: Exclude<T[Key], undefined> } {
  return Object.fromEntries(Object.entries(values).filter(([, value]) => value !== undefined)) as never;
}
