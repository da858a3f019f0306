import { parentPort, workerData } from 'node:worker_threads';
import { type CheckThreadSettings, checksInThread, type ToThread } from '../dns/check-threads.ts';

/** A thread of the service that asks name servers about many domains and judges what they say. */

const take = checksInThread(workerData as CheckThreadSettings, (message) => parentPort?.postMessage(message));
parentPort?.on('message', (message: ToThread) => take(message));
