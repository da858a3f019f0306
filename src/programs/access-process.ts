import { runAccessProcess } from '../access/access-process.ts';

/** The program of a process that speaks to mail programs. */
runAccessProcess();
