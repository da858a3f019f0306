import { hashWork } from '../service/base/hash-work.ts';
import { answerCalls } from '../threads/answering.ts';

/** A thread that compares passwords with hashes of elsewhere. */
answerCalls(hashWork);
