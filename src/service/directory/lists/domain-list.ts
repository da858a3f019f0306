import { ROLES, type Role } from '../../../core/vocabulary.ts';
import { findCustomer, findPlan } from '../../../store/customers.ts';
import type { DirectoryDeps } from '../deps.ts';
import { cleanDomainName, requireServer } from '../domains.ts';
import type { ListedCustomer } from './customer-list.ts';
import { type ListFault, readCsv, told } from './read-csv.ts';

/** A domain of a list, checked. */
export interface ListedDomain {
  line: number;
  name: string;
  customer: string;
  plan: string;
  role: Role;
  primaryServer: string | null;
  /** What its plan gives its mailboxes. */
  quotaBytes: number;
  mostMailboxes: number;
}

const LIST = 'domains';
/** For each a key is made, which takes a tenth of a second. */
const MOST_DOMAINS = 1000;

/** Reads a list of domains: `domain`, and `customer`, `plan`, `role`, `to` (the server that has its mailboxes). Customers may come with it. */
export function readDomainList(
  context: DirectoryDeps,
  csv: string,
  customers: readonly ListedCustomer[],
): { rows: ListedDomain[]; faults: ListFault[] } {
  const { db } = context;
  const { rows, faults } = readCsv(csv, { list: LIST, columns: ['domain', 'customer', 'plan', 'role', 'to'], mostRows: MOST_DOMAINS });
  const coming = new Set(customers.map((one) => one.name.toLowerCase()));
  const read: ListedDomain[] = [];
  const seen = new Map<string, number>();
  for (const { line, values } of rows) {
    const fault = (text: string): void => {
      faults.push({ list: LIST, line, text });
    };
    const { domain = '', customer = '', to = '' } = values;
    const name = told(() => cleanDomainName(context, domain), fault);
    const planName = values.plan || 'standard';
    const plan = findPlan(db, planName);
    const role = ROLES.find((one) => one === (values.role || 'home'));
    if (customer === '') fault('The column customer is missing.');
    else if (!coming.has(customer.toLowerCase()) && !findCustomer(db, customer)) fault(`There is no customer “${customer.slice(0, 80)}”.`);
    if (!plan) fault(`There is no plan “${planName.slice(0, 80)}”.`);
    if (role) told(() => requireServer(role, to === '' ? null : to), fault);
    else fault(`“${values.role?.slice(0, 40)}” is not a role. Roles are ${ROLES.join(', ')}.`);
    if (name === null) continue;
    const before = seen.get(name);
    if (before !== undefined) fault(`${name} is already in line ${before}.`);
    seen.set(name, line);
    if (plan && role)
      read.push({
        line,
        name,
        customer,
        plan: planName,
        role,
        primaryServer: to === '' ? null : to,
        quotaBytes: plan.quotaBytes,
        mostMailboxes: plan.mostMailboxes,
      });
  }
  return { rows: read, faults };
}
