import { signedAndHandedOver } from './signing.ts';
import { acceptedPerSecond } from './submission.ts';

if (process.argv[2] === '1') console.log(await acceptedPerSecond());
else console.log(await signedAndHandedOver());
process.exit(0);
