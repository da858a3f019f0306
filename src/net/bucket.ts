import { createReadStream, readFileSync } from 'node:fs';
import { readFile } from 'node:fs/promises';
import {
  DeleteObjectsCommand,
  GetObjectCommand,
  type GetObjectCommandOutput,
  ListObjectsV2Command,
  PutObjectCommand,
  S3Client,
} from '@aws-sdk/client-s3';
import { Upload } from '@aws-sdk/lib-storage';
import { type ObjectStore, ObjectStoreError } from '../core/backup/object-store.ts';

/** Where a bucket is found, and who may use it. */
export interface BucketSettings {
  endpoint: string;
  region: string;
  name: string;
  /** Before all names in it; empty for none. */
  prefix: string;
  accessKey: string;
  secretKeyFile: string;
}

/** The protocol allows as many in one call. */
const REMOVED_TOGETHER = 1000;
/** What is sent in one go, and in how many a large object may be parted. */
const PART_OCTETS = 16 * 1024 * 1024;
const MOST_PARTS = 9000;
const PIECE_OCTETS = 1024 * 1024;
/** So often in a row nothing has come before it is given up. */
const MOST_TRIES = 5;

/** A bucket of an object store that speaks the S3 protocol. Throws ObjectStoreError when the secret key can't be read. */
export function openBucket({ endpoint, region, name, prefix, accessKey, secretKeyFile }: BucketSettings): ObjectStore {
  const words = `the bucket ${name} at ${endpoint}`;
  let secretAccessKey: string;
  try {
    secretAccessKey = readFileSync(secretKeyFile, 'utf8').trim();
  } catch (error) {
    throw new ObjectStoreError(`The secret key of ${words} can’t be read: ${(error as Error).message}.`);
  }
  // A word of the client about later versions of itself is nothing for the log of a service.
  process.env['AWS_SDK_JS_NODE_VERSION_SUPPORT_WARNING_DISABLED'] ??= 'true';
  const client = new S3Client({
    endpoint,
    region,
    credentials: { accessKeyId: accessKey, secretAccessKey },
    // Buckets of private stores have no name in DNS.
    forcePathStyle: true,
    maxAttempts: 5,
    requestChecksumCalculation: 'WHEN_REQUIRED',
    responseChecksumValidation: 'WHEN_REQUIRED',
  });
  const before = prefix === '' ? '' : `${prefix.replace(/\/+$/, '')}/`;
  const said = (error: unknown): ObjectStoreError => {
    const {
      name: kind = '',
      message = '',
      $metadata,
    } = error as { name?: string; message?: string; $metadata?: { httpStatusCode?: number } };
    const status = $metadata?.httpStatusCode === undefined ? '' : ` (${$metadata.httpStatusCode})`;
    return new ObjectStoreError(
      `${words.replace(/^t/, 'T')} does not do it: ${[kind, message]
        .filter((one) => one !== '' && one !== 'Error')
        .join(', ')
        .slice(0, 300)}${status}.`,
    );
  };
  const isMissing = (error: unknown): boolean => (error as { name?: string }).name === 'NoSuchKey';
  return {
    name: words,
    async *list(below) {
      for (let ContinuationToken: string | undefined; ; ) {
        const page = await client
          .send(
            new ListObjectsV2Command({
              Bucket: name,
              Prefix: before + below,
              ...(ContinuationToken === undefined ? {} : { ContinuationToken }),
            }),
          )
          .catch((error: unknown) => Promise.reject(said(error)));
        for (const { Key = '', Size = 0 } of page.Contents ?? []) yield { key: Key.slice(before.length), size: Size };
        ContinuationToken = page.NextContinuationToken;
        if (ContinuationToken === undefined) return;
      }
    },
    async put(key, file, { size, sha256 }) {
      const place = { Bucket: name, Key: before + key };
      try {
        // What is in memory can be sent again when a connection breaks: a small object whole, a large one in parts.
        if (size <= PART_OCTETS)
          await client.send(
            // The store compares it with what has come.
            new PutObjectCommand({ ...place, Body: await readFile(file), ChecksumSHA256: Buffer.from(sha256, 'hex').toString('base64') }),
          );
        else
          await new Upload({
            client,
            params: { ...place, Body: createReadStream(file, { highWaterMark: PIECE_OCTETS }) },
            // A store takes ten thousand parts of an object.
            partSize: Math.max(PART_OCTETS, Math.ceil(size / MOST_PARTS)),
            queueSize: 1,
          }).done();
      } catch (error) {
        throw said(error);
      }
    },
    async get(key) {
      const place = { Bucket: name, Key: before + key };
      const ask = (more: object) => client.send(new GetObjectCommand({ ...place, ...more }));
      try {
        const first = await ask({});
        return first.Body ? piecesOf(first, (from) => ask({ Range: `bytes=${from}-`, IfMatch: first.ETag }), said) : null;
      } catch (error) {
        if (isMissing(error)) return null;
        throw said(error);
      }
    },
    async remove(keys) {
      for (let at = 0; at < keys.length; at += REMOVED_TOGETHER) {
        const Objects = keys.slice(at, at + REMOVED_TOGETHER).map((key) => ({ Key: before + key }));
        const { Errors = [] } = await client
          .send(new DeleteObjectsCommand({ Bucket: name, Delete: { Objects, Quiet: true } }))
          .catch((error: unknown) => Promise.reject(said(error)));
        const [first] = Errors;
        if (first) throw new ObjectStoreError(`${words.replace(/^t/, 'T')} does not remove ${first.Key}: ${first.Message}.`);
      }
    },
  };
}

type Answer = Pick<GetObjectCommandOutput, 'Body' | 'ContentLength'>;

/** The octets of an object. Where the connection breaks in the middle, the rest is asked for. */
async function* piecesOf(
  first: Answer,
  askFrom: (octet: number) => Promise<Answer>,
  said: (error: unknown) => ObjectStoreError,
): AsyncGenerator<Uint8Array> {
  const size = first.ContentLength ?? null;
  let come = 0;
  let answer: Answer | null = first;
  for (let tries = 0; ; ) {
    try {
      answer ??= await askFrom(come);
      for await (const piece of answer.Body as AsyncIterable<Uint8Array>) {
        come += piece.length;
        tries = 0;
        yield piece;
      }
      if (size === null || come >= size) return;
      throw new Error('the connection ended early');
    } catch (error) {
      tries += 1;
      if (tries >= MOST_TRIES) throw said(error);
      answer = null;
    }
  }
}
