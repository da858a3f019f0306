import { buildProgram, runProgram, watchOutput } from '../cli/program.ts';
import { addServiceCommands, DEMO_FOLDER, onHost } from '../operate/commands.ts';
import { VERSION } from '../project.ts';

/** The program: the service, and the commands that ask it. */

watchOutput();
await runProgram(
  buildProgram({ version: VERSION, demoAccessFile: `${DEMO_FOLDER}/client.json`, addServiceCommands, onHost }),
  process.argv.slice(2),
);
