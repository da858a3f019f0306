import { createServer, type IncomingMessage, type Server } from 'node:http';
import { type StandInDns, TTL, type ZoneRecord } from './dns-server.ts';

/** What the demo shows beside the service: what the providers received, and the customers' own DNS, with a form to change it. */
export interface LookSettings {
  dns: StandInDns;
  /** What the providers have received, as text. */
  providers: () => string;
  /** The customers' domains. */
  domains: readonly string[];
}

const TYPES: ZoneRecord['type'][] = ['MX', 'TXT', 'SRV', 'A', 'AAAA', 'CNAME'];
/** A week, in seconds. */
const LONGEST_TTL = 604_800;
const LARGEST_FORM = 64 * 1024;

const escaped = (text: string): string => text.replace(/[&<>"']/g, (one) => `&#${one.charCodeAt(0)};`);

const page = (title: string, body: string): string => `<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>${escaped(title)}</title>
<style>
  body { font: 16px/1.5 system-ui, sans-serif; margin: 2rem auto; max-width: 72rem; padding: 0 1rem; color-scheme: light dark; }
  table { border-collapse: collapse; width: 100%; } td, th { text-align: left; padding: .4rem .6rem; border-top: 1px solid #8884; vertical-align: top; }
  td:first-child { min-width: 18rem; } td button { font-size: 14px; } td.v { font: 13px/1.5 ui-monospace, monospace; overflow-wrap: anywhere; } input, select, button { font: inherit; padding: .3rem .5rem; }
  form.new { display: flex; flex-wrap: wrap; gap: .5rem; align-items: end; margin: 1.5rem 0; } form.new label { display: grid; font-size: 14px; } label.wide { flex: 1; min-width: 16rem; }
  .soft { opacity: .7; }
</style>
<h1>${escaped(title)}</h1>
${body}</html>`;

function zonePage(domain: string, dns: StandInDns): string {
  const rows = dns.recordsBelow(domain).map(
    (
      record,
    ) => `<tr><td class="v">${escaped(record.name)}</td><td>${record.type}</td><td>${record.ttl ?? TTL}</td><td class="v">${escaped(record.value)}</td><td>
      <form method="post"><input type="hidden" name="act" value="remove"><input type="hidden" name="name" value="${escaped(record.name)}">
      <input type="hidden" name="type" value="${record.type}"><input type="hidden" name="value" value="${escaped(record.value)}"><button>Remove</button></form></td></tr>`,
  );
  return page(
    `The DNS of ${domain}`,
    `<p class="soft">This plays the part of a customer’s DNS provider. Like many, its form appends “.${escaped(domain)}” to every name: enter “@” for the domain itself.
     <a href="/zones">Other domains</a></p>
<form class="new" method="post"><input type="hidden" name="act" value="add">
<label>Name <input name="name" placeholder="@ or _dmarc" required></label>
<label>Type <select name="type">${TYPES.map((type) => `<option>${type}</option>`).join('')}</select></label>
<label>TTL <input name="ttl" type="number" min="1" max="604800" value="${TTL}"></label>
<label class="wide">Value <input name="value" required></label><button>Add</button></form>
<table><tr><th>Name</th><th>Type</th><th>TTL</th><th>Value</th><th></th></tr>${rows.join('')}</table>`,
  );
}

/** Types in or takes out one record, as the form says; what can't be a record changes nothing. */
function change(domain: string, dns: StandInDns, form: URLSearchParams): void {
  const field = (name: string): string => (form.get(name) ?? '').trim();
  const type = field('type') as ZoneRecord['type'];
  const value = field('value');
  if (!TYPES.includes(type) || value === '') return;
  if (field('act') === 'remove') return dns.withdrawOne({ name: field('name'), type, value });
  const name = field('name');
  const ttl = Number(field('ttl') || TTL);
  if (!Number.isInteger(ttl) || ttl < 1 || ttl > LONGEST_TTL) return;
  if (/^[A-Za-z0-9_.@-]{1,200}$/.test(name)) dns.publish({ name: name === '@' ? domain : `${name}.${domain}`, type, value, ttl });
}

async function formOf(request: IncomingMessage): Promise<URLSearchParams> {
  let text = '';
  for await (const bytes of request) {
    text += bytes;
    if (text.length > LARGEST_FORM) break;
  }
  return new URLSearchParams(text);
}

export function lookServer({ dns, providers, domains }: LookSettings): Server {
  return createServer((request, response) => {
    const { pathname } = new URL(request.url ?? '/', 'http://demo.example');
    const html = (text: string): void => {
      response.setHeader('Content-Type', 'text/html; charset=utf-8');
      response.end(text);
    };
    const domain = domains.find((one) => pathname === `/zones/${one}`);
    if (pathname === '/zones')
      return html(
        page('The customers’ DNS', `<ul>${domains.map((one) => `<li><a href="/zones/${one}">${escaped(one)}</a></li>`).join('')}</ul>`),
      );
    if (domain !== undefined && request.method === 'POST') {
      formOf(request)
        .then((form) => {
          change(domain, dns, form);
          response.writeHead(303, { Location: pathname });
          response.end();
        })
        // Whoever went away in the middle of a form changes nothing.
        .catch(() => response.destroy());
      return;
    }
    if (domain !== undefined) return html(zonePage(domain, dns));
    response.setHeader('Content-Type', 'text/plain; charset=utf-8');
    response.statusCode = pathname === '/' ? 200 : 404;
    response.end(pathname === '/' ? providers() : 'No such page. See / and /zones.\n');
  });
}
