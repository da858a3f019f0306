import type { Socket } from 'node:net';
import { Duplex } from 'node:stream';
import { constants, createDeflateRaw, createInflateRaw } from 'node:zlib';

/**
 * A connection whose octets are compressed both ways (RFC 4978 §3), and flushed at each writing. What comes is unpacked only as fast as it is read, so
 * that a small packet can't become a large memory.
 */
export class CompressedStream extends Duplex {
  private readonly packed = createDeflateRaw({ memLevel: 5, flush: constants.Z_SYNC_FLUSH });
  private readonly unpacked = createInflateRaw({ flush: constants.Z_SYNC_FLUSH });

  constructor(private readonly socket: Socket) {
    super();
    this.packed.on('data', (octets: Buffer) => socket.write(octets));
    this.unpacked.on('data', (octets: Buffer) => {
      if (!this.push(octets)) this.unpacked.pause();
    });
    this.unpacked.on('end', () => this.push(null));
    for (const stream of [this.packed, this.unpacked]) stream.on('error', () => this.destroy());
    socket.on('close', () => this.destroy());
    socket.pipe(this.unpacked);
  }

  setTimeout(ms: number, listener?: () => void): this {
    this.socket.setTimeout(ms, listener);
    return this;
  }

  override _read(): void {
    this.unpacked.resume();
  }

  override _write(octets: Buffer, _coding: BufferEncoding, done: (error?: Error | null) => void): void {
    this.packed.write(octets, () => {
      if (this.socket.writableNeedDrain) this.socket.once('drain', () => done());
      else done();
    });
  }

  override _final(done: (error?: Error | null) => void): void {
    this.packed.end(() => {
      this.socket.end();
      done();
    });
  }

  override _destroy(error: Error | null, done: (error: Error | null) => void): void {
    this.packed.destroy();
    this.unpacked.destroy();
    this.socket.destroy();
    done(error);
  }
}
