import { createPrivateKey } from 'node:crypto';
import { type Chain, type Roots, readChain, readPrivateKey } from '../../core/certificates/chain.ts';
import { ByName } from '../../core/certificates/names.ts';
import type { CertificateChange, ShownCertificate } from '../../core/certificates/shown.ts';
import type { CertificateSource } from '../../core/vocabulary.ts';
import { findCertificate, type KeptCertificate, listCertificates } from '../../store/certificates.ts';
import type { Database } from '../../store/database.ts';
import type { KeyFile } from '../../store/key-file.ts';
import type { RowChange } from '../../store/row-changes.ts';
import type { Clock, Log } from '../base/ports.ts';

/** A certificate that ports can show, with what is known of it. */
export interface HeldCertificate extends ShownCertificate {
  source: CertificateSource;
  /** Null for one that no row has. */
  row: number | null;
  chain: Chain;
  since: number | null;
}

/** A certificate that lies in files. */
export interface CertificateFile {
  /** Both paths, as people know them. */
  id: string;
  source: Extract<CertificateSource, 'file' | 'self-signed'>;
  /** What changes when the files do; null while they can’t be read. */
  state(): Promise<string | null>;
  read(): Promise<{ pem: string; key: string }>;
}

/** All certificates at hand: those of files, which are watched, and those of rows. */
export class HeldCertificates {
  private readonly held = new ByName<HeldCertificate>();
  private readonly states = new Map<CertificateFile, string | null>();
  /** Names for which one is being fetched: twice at once helps nobody. */
  readonly fetching = new Set<string>();
  /** Grows with each change of what is held. */
  edition = 0;
  /** Hears of what is to be shown from now on. */
  onChange: (change: CertificateChange) => void = () => {};

  constructor(
    private readonly parts: { db: Database; keyFile: KeyFile; clock: Clock; log: Log },
    readonly roots: Roots,
    private readonly files: readonly CertificateFile[],
  ) {}

  /** Reads all. A file that can’t be used fails the start. */
  async load(): Promise<void> {
    for (const file of this.files) {
      this.states.set(file, await file.state());
      this.put(await this.readFile(file));
    }
    for (const row of listCertificates(this.parts.db)) this.putRow(row);
  }

  /** Takes up files that were renewed; one that can’t be used changes nothing. */
  async lookAtFiles(): Promise<void> {
    for (const file of this.files) {
      const state = await file.state();
      if (state === null || state === this.states.get(file)) continue;
      try {
        this.put(await this.readFile(file));
        this.parts.log.info({ file: file.id }, 'a renewed certificate is in use');
      } catch (error) {
        this.parts.log.error(
          { file: file.id, reason: (error as Error).message },
          'the certificate file could not be read; the previous certificate stays in use',
        );
      }
      this.states.set(file, state);
    }
  }

  follow(changes: readonly RowChange[]): void {
    for (const { kind, id, what } of changes) {
      if (kind !== 'certificate') continue;
      const row = what === 'gone' ? undefined : findCertificate(this.parts.db, id);
      if (row) this.putRow(row);
      else if (this.held.drop(rowId(id))) this.changed({ put: [], drop: [rowId(id)] });
    }
  }

  get all(): HeldCertificate[] {
    return this.held.all;
  }

  /** What is shown to who asks for a name: one that is for it, where there is one. */
  for(name: string): HeldCertificate | undefined {
    return this.held.for(name, this.parts.clock.now());
  }

  private async readFile(file: CertificateFile): Promise<HeldCertificate> {
    try {
      const { pem, key } = await file.read();
      const chain = readChain(pem, this.roots, readPrivateKey(key, createPrivateKey));
      return heldOf({ id: file.id, source: file.source, row: null, since: null }, chain, key);
    } catch (error) {
      throw new Error(`The certificate ${file.id} can’t be used: ${(error as Error).message.replace(/\.$/, '')}.`);
    }
  }

  private putRow(row: KeptCertificate): void {
    try {
      const key = this.parts.keyFile.open(row.privateKey);
      const chain = readChain(row.chain, this.roots, createPrivateKey(key));
      this.put(
        heldOf({ id: rowId(row.id), source: row.source, row: row.id, since: row.since }, { ...chain, isInOrder: row.isInOrder }, key),
      );
    } catch (error) {
      this.parts.log.error({ certificate: row.id, reason: (error as Error).message }, 'a stored certificate can’t be used');
    }
  }

  private put(one: HeldCertificate): void {
    this.held.put(one);
    this.changed({ put: [one], drop: [] });
  }

  private changed(change: CertificateChange): void {
    this.edition += 1;
    this.onChange(change);
  }
}

const rowId = (id: number): string => `row ${id}`;

function heldOf(what: Pick<HeldCertificate, 'id' | 'source' | 'row' | 'since'>, chain: Chain, key: string): HeldCertificate {
  const { names, notBefore, notAfter, isSelfSigned } = chain.facts;
  return { ...what, chain, names, notBefore, notAfter, isSelfSigned, isTrusted: chain.isTrusted, pem: chain.pem, key };
}
