import { fileWork } from '../store/file-work.ts';
import { answerCalls } from '../threads/answering.ts';

/** A thread that writes message texts as files. */
answerCalls(fileWork);
