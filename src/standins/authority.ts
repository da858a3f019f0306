import 'reflect-metadata';
import { createHash, randomBytes, webcrypto } from 'node:crypto';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { createServer, type Server } from 'node:https';
import type { AddressInfo } from 'node:net';
import * as x509 from '@peculiar/x509';
import { calculateJwkThumbprint, flattenedVerify, importJWK, type JWK } from 'jose';
import { CertificateMaker } from './certificate-maker.ts';

const MOST_BODY = 64 * 1024;

/** How it finds out whether a name is the client’s. */
export interface AuthorityEyes {
  /** The text at `/.well-known/acme-challenge/TOKEN` of a name, port 80; null when nothing answers. */
  http(name: string, token: string): Promise<string | null>;
  txt(name: string): Promise<string[]>;
}

export interface AuthorityTemper {
  /** Days for which certificates are good. */
  days: number;
  /** Keys that accounts must be bound to (RFC 8555 §7.3.4), by their names; in base64url. */
  bindings?: Record<string, string>;
  now: () => number;
}

interface Order {
  name: string;
  account: string;
  token: string;
  status: 'pending' | 'ready' | 'valid' | 'invalid';
  fault: string | null;
  certificate: string | null;
}

interface Signed {
  payload: Record<string, unknown> | null;
  account: string;
  jwk: JWK;
  protected: Record<string, unknown>;
}

/** What the client did wrong, as RFC 7807 has it. */
class Refusal extends Error {
  constructor(
    readonly status: number,
    readonly type: string,
    detail: string,
    readonly retryAfter: number | null = null,
  ) {
    super(detail);
  }
}

/** A small authority that gives certificates by RFC 8555, with a root of its own, for the demo and the tests. */
export class StandInAuthority {
  private server: Server | null = null;
  private readonly accounts = new Map<string, JWK>();
  private readonly orders: Order[] = [];
  private readonly nonces = new Set<string>();
  /** What it says to the next orders; for a day on which it gives nothing. */
  refusal: { status: number; type: string; detail: string; retryAfter: number | null } | null = null;
  /** The window that it proposes for renewals; null says nothing of it. */
  window: { from: number; to: number } | null = null;
  orderCount = 0;
  url = '';

  private constructor(
    private readonly maker: CertificateMaker,
    private readonly eyes: AuthorityEyes,
    private readonly temper: AuthorityTemper,
  ) {}

  static async make(name: string, eyes: AuthorityEyes, temper: AuthorityTemper): Promise<StandInAuthority> {
    return new StandInAuthority(await CertificateMaker.make(name, temper), eyes, temper);
  }

  /** PEM of the certificate that is to be trusted. */
  get rootPem(): string {
    return this.maker.rootPem;
  }

  /** Opens its own port on loopback; resolves with the address of its directory. */
  async listen(): Promise<string> {
    const { pem, key } = await this.give(['localhost'], null);
    this.server = createServer({ cert: pem, key: key as string }, (request, response) => {
      this.answer(request, response).catch(() => response.destroy());
    });
    await new Promise<void>((resolve) => this.server?.listen(0, '127.0.0.1', resolve));
    this.url = `https://localhost:${(this.server.address() as AddressInfo).port}`;
    return `${this.url}/directory`;
  }

  close(): void {
    this.server?.close();
    this.server?.closeAllConnections();
  }

  /** A certificate for names, without any question; for worlds that begin in the middle. Without a key one is made. */
  give: CertificateMaker['give'] = (...asked) => this.maker.give(...asked);

  private async answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const path = new URL(request.url ?? '/', this.url).pathname;
    const nonce = randomBytes(12).toString('base64url');
    this.nonces.add(nonce);
    response.setHeader('replay-nonce', nonce);
    response.setHeader('cache-control', 'no-store');
    try {
      await this.route(path, request, response);
    } catch (error) {
      const { status, type, message, retryAfter } = error instanceof Refusal ? error : new Refusal(500, 'serverInternal', String(error));
      if (retryAfter !== null) response.setHeader('retry-after', String(retryAfter));
      send(response, status, { type: `urn:ietf:params:acme:error:${type}`, detail: message, status }, 'application/problem+json');
    }
  }

  private async route(path: string, request: IncomingMessage, response: ServerResponse): Promise<void> {
    if (path === '/directory')
      return send(response, 200, {
        newNonce: `${this.url}/nonce`,
        newAccount: `${this.url}/accounts`,
        newOrder: `${this.url}/orders`,
        renewalInfo: `${this.url}/renewal`,
        meta: { caaIdentities: ['authority.example'], externalAccountRequired: this.temper.bindings !== undefined },
      });
    if (path === '/nonce') return send(response, request.method === 'HEAD' ? 200 : 204, null);
    if (path.startsWith('/renewal/')) return this.renewal(path, response);
    const signed = await this.read(path, request);
    if (path === '/accounts') return this.account(signed, response);
    if (path.startsWith('/accounts/')) return send(response, 200, { status: 'valid' });
    if (path === '/orders') return this.newOrder(signed, response);
    const [, what, number] = path.split('/');
    const order = this.orders[Number(number)];
    if (!order || order.account !== signed.account) throw new Refusal(404, 'malformed', 'There is no such order.');
    if (what === 'orders') return send(response, 200, this.orderBody(order));
    if (what === 'authorizations') return send(response, 200, this.authorizationBody(order));
    if (what === 'http-01' || what === 'dns-01') {
      // Without a body it is only looked at.
      if (signed.payload !== null) await this.prove(order, what, signed.jwk);
      return send(response, 200, this.challengeBody(order, what));
    }
    if (what === 'finalize') return this.finalize(order, signed, response);
    if (what === 'certificates' && order.certificate !== null)
      return send(response, 200, order.certificate, 'application/pem-certificate-chain');
    throw new Refusal(404, 'malformed', 'There is nothing there.');
  }

  /** RFC 8555 §6.2 to §6.5: the signature, for this address, with a nonce that was given out. */
  private async read(path: string, request: IncomingMessage): Promise<Signed> {
    const parts: Buffer[] = [];
    for await (const part of request) {
      parts.push(part as Buffer);
      if (parts.reduce((sum, one) => sum + one.length, 0) > MOST_BODY) throw new Refusal(413, 'malformed', 'That is too long.');
    }
    const jws = JSON.parse(Buffer.concat(parts).toString());
    const header = JSON.parse(Buffer.from(jws.protected, 'base64url').toString()) as {
      url: string;
      nonce: string;
      kid?: string;
      jwk?: JWK;
      alg: string;
    };
    if (header.url !== `${this.url}${path}`) throw new Refusal(401, 'unauthorized', 'It was signed for another address.');
    if (!this.nonces.delete(header.nonce)) throw new Refusal(400, 'badNonce', 'That nonce was not given out, or was used.');
    const account = header.kid?.slice(`${this.url}/accounts/`.length) ?? '';
    const jwk = header.jwk ?? this.accounts.get(account);
    if (!jwk) throw new Refusal(400, 'accountDoesNotExist', 'There is no such account.');
    const { payload } = await flattenedVerify(jws, await importJWK(jwk, header.alg)).catch(() => {
      throw new Refusal(401, 'unauthorized', 'The signature is wrong.');
    });
    const text = Buffer.from(payload).toString();
    return { payload: text === '' ? null : JSON.parse(text), account, jwk, protected: header };
  }

  private async account({ payload, jwk }: Signed, response: ServerResponse): Promise<void> {
    const { bindings } = this.temper;
    if (bindings) {
      const binding = payload?.['externalAccountBinding'] as { protected: string } | undefined;
      if (!binding) throw new Refusal(403, 'externalAccountRequired', 'Accounts must be bound to one that is known.');
      const { kid } = JSON.parse(Buffer.from(binding.protected, 'base64url').toString());
      const key = bindings[kid];
      if (key === undefined) throw new Refusal(403, 'unauthorized', 'There is no such binding.');
      await flattenedVerify(binding as never, Buffer.from(key, 'base64url')).catch(() => {
        throw new Refusal(403, 'unauthorized', 'The binding is signed with another key.');
      });
    }
    const id = await calculateJwkThumbprint(jwk);
    const isNew = !this.accounts.has(id);
    this.accounts.set(id, jwk);
    response.setHeader('location', `${this.url}/accounts/${id}`);
    send(response, isNew ? 201 : 200, { status: 'valid' });
  }

  private newOrder({ payload, account }: Signed, response: ServerResponse): void {
    if (this.refusal) throw new Refusal(this.refusal.status, this.refusal.type, this.refusal.detail, this.refusal.retryAfter);
    this.orderCount += 1;
    const [identifier] = (payload?.['identifiers'] as { value: string }[] | undefined) ?? [];
    if (!identifier) throw new Refusal(400, 'malformed', 'No name is asked for.');
    const order: Order = {
      name: identifier.value,
      account,
      token: randomBytes(16).toString('base64url'),
      status: 'pending',
      fault: null,
      certificate: null,
    };
    this.orders.push(order);
    response.setHeader('location', `${this.url}/orders/${this.orders.length - 1}`);
    send(response, 201, this.orderBody(order));
  }

  private async prove(order: Order, how: 'http-01' | 'dns-01', jwk: JWK): Promise<void> {
    if (order.status !== 'pending') return;
    const wanted = `${order.token}.${await calculateJwkThumbprint(jwk)}`;
    const name = order.name.replace(/^\*\./, '');
    if (how === 'http-01') {
      const seen = await this.eyes.http(name, order.token);
      if (seen?.trim() !== wanted)
        order.fault = seen === null ? `http://${name} does not answer on port 80.` : `http://${name} shows something else.`;
    } else {
      const digest = createHash('sha256').update(wanted).digest('base64url');
      const seen = await this.eyes.txt(`_acme-challenge.${name}`);
      if (!seen.includes(digest)) order.fault = `_acme-challenge.${name} has no TXT record that shows it.`;
    }
    order.status = order.fault === null ? 'ready' : 'invalid';
  }

  private async finalize(order: Order, { payload }: Signed, response: ServerResponse): Promise<void> {
    if (order.status !== 'ready') throw new Refusal(403, 'orderNotReady', 'It is not shown that the name is yours.');
    const request = new x509.Pkcs10CertificateRequest(Buffer.from(String(payload?.['csr']), 'base64url'));
    const asked = request.extensions.find((one) => one instanceof x509.SubjectAlternativeNameExtension);
    const names = asked?.names.items.map((one) => one.value) ?? [];
    if (!(await request.verify(webcrypto as never)) || names.join() !== order.name)
      throw new Refusal(400, 'badCSR', 'The request is for other names.');
    const { pem } = await this.give([order.name], (await request.publicKey.export(webcrypto as never)) as CryptoKey);
    order.certificate = pem;
    order.status = 'valid';
    send(response, 200, this.orderBody(order));
  }

  private renewal(path: string, response: ServerResponse): void {
    const serial = Buffer.from(path.split('.')[1] ?? '', 'base64url')
      .toString('hex')
      .replace(/^00/, '')
      .toUpperCase();
    if (!this.window || !this.maker.serials.has(serial)) throw new Refusal(404, 'malformed', 'That is not known.');
    response.setHeader('retry-after', '21600');
    send(response, 200, {
      suggestedWindow: { start: new Date(this.window.from).toISOString(), end: new Date(this.window.to).toISOString() },
    });
  }

  private orderBody(order: Order): object {
    const at = this.orders.indexOf(order);
    return {
      status: order.status,
      identifiers: [{ type: 'dns', value: order.name }],
      authorizations: [`${this.url}/authorizations/${at}`],
      finalize: `${this.url}/finalize/${at}`,
      ...(order.certificate === null ? {} : { certificate: `${this.url}/certificates/${at}` }),
    };
  }

  private authorizationBody(order: Order): object {
    const isWild = order.name.startsWith('*.');
    const status = order.status === 'ready' ? 'valid' : order.status;
    return {
      status,
      identifier: { type: 'dns', value: order.name.replace(/^\*\./, '') },
      wildcard: isWild,
      challenges: (isWild ? (['dns-01'] as const) : (['http-01', 'dns-01'] as const)).map((one) => this.challengeBody(order, one)),
    };
  }

  private challengeBody(order: Order, how: 'http-01' | 'dns-01'): object {
    const status = order.status === 'ready' ? 'valid' : order.status;
    return {
      type: how,
      url: `${this.url}/${how}/${this.orders.indexOf(order)}`,
      token: order.token,
      status,
      ...(order.fault === null ? {} : { error: { type: 'urn:ietf:params:acme:error:unauthorized', detail: order.fault } }),
    };
  }
}

function send(response: ServerResponse, status: number, body: object | string | null, type = 'application/json'): void {
  response.writeHead(status, { 'content-type': type });
  response.end(body === null ? undefined : typeof body === 'string' ? body : JSON.stringify(body));
}
