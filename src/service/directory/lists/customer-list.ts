import { cleanCustomer, type NewCustomer } from '../customers.ts';
import type { DirectoryDeps } from '../deps.ts';
import { type ListFault, readCsv, told } from './read-csv.ts';

/** A customer of a list, checked. */
export type ListedCustomer = NewCustomer & { line: number };

const LIST = 'customers';

/** Reads a list of customers: `customer`, and maybe `contact`, where warnings go by mail. */
export function readCustomerList(context: DirectoryDeps, csv: string): { rows: ListedCustomer[]; faults: ListFault[] } {
  const { rows, faults } = readCsv(csv, { list: LIST, columns: ['customer', 'contact'], mostRows: 10_000 });
  const read: ListedCustomer[] = [];
  const seen = new Map<string, number>();
  for (const { line, values } of rows) {
    const fault = (text: string): void => {
      faults.push({ list: LIST, line, text });
    };
    const customer = told(() => cleanCustomer(context, values.customer ?? '', values.contact ?? null), fault);
    if (!customer) continue;
    const before = seen.get(customer.name.toLowerCase());
    if (before !== undefined) fault(`${customer.name} is already in line ${before}.`);
    seen.set(customer.name.toLowerCase(), line);
    read.push({ line, ...customer });
  }
  return { rows: read, faults };
}
