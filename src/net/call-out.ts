import { lookup } from 'node:dns';
import { request as requestHttp } from 'node:http';
import { request as requestHttps } from 'node:https';
import type { LookupFunction } from 'node:net';
import { isIpAddress, isOwnMachine } from '../core/address/ip-address.ts';
import type { CallOut } from '../service/base/ports.ts';

const TIMEOUT_MS = 10_000;
const INWARD = 'the address is of this machine itself, which the configuration does not allow (outgoing.to_this_machine)';

/** Finds a name's addresses, and lets through only those outside: the check and the connection see the same answer. */
const outward: LookupFunction = (name, options, done) =>
  lookup(name, { ...options, all: true }, (error, addresses) => {
    const outside = (addresses ?? []).filter(({ address }) => !isOwnMachine(address));
    const [first] = outside;
    if (error) done(error, '');
    else if (!first) done(new Error(INWARD), '');
    else if (options.all) done(null, outside);
    else done(null, first.address, first.family);
  });

/** Posts one signed call. Redirects are not followed: the signature is for one address. */
export const callOut =
  (toThisMachine: boolean): CallOut =>
  (url, headers, body) =>
    new Promise((resolve) => {
      const target = new URL(url);
      const host = target.hostname.replace(/^\[|\]$/g, '');
      if (!toThisMachine && isIpAddress(host) && isOwnMachine(host)) {
        resolve({ status: null, reason: INWARD });
        return;
      }
      const send = target.protocol === 'https:' ? requestHttps : requestHttp;
      const failed = (error: NodeJS.ErrnoException): void => resolve({ status: null, reason: error.code ?? error.message });
      const signal = AbortSignal.timeout(TIMEOUT_MS);
      try {
        const request = send(
          target,
          {
            method: 'POST',
            headers: { ...headers, 'content-length': Buffer.byteLength(body) },
            agent: false,
            signal,
            ...(toThisMachine ? {} : { lookup: outward }),
          },
          (response) => {
            resolve({ status: response.statusCode ?? null, reason: response.statusMessage ?? '' });
            // What it says is of no interest.
            response.destroy();
          },
        );
        request.on('error', (error) => failed(signal.aborted ? new Error('no answer in time') : error));
        request.end(body);
      } catch (error) {
        failed(error as Error);
      }
    });
