import { migration as version1 } from './migrations/1-provisioning-and-mail.ts';
import { migration as version2 } from './migrations/2-checks-and-keys.ts';
import { migration as version3 } from './migrations/3-limits-and-outlets.ts';
import { migration as version4 } from './migrations/4-keys-of-removed-domains.ts';
import { migration as version5 } from './migrations/5-numbers-used-once.ts';
import { migration as version6 } from './migrations/6-queued-recipients.ts';
import { migration as version7 } from './migrations/7-calendar-days-and-answers.ts';
import { migration as version8 } from './migrations/8-plainer-names-and-shelves.ts';
import { migration as version9 } from './migrations/9-folders.ts';
import { migration as version10 } from './migrations/10-use-and-removed-mailboxes.ts';
import { migration as version11 } from './migrations/11-indexed-texts.ts';
import { migration as version12 } from './migrations/12-shared-mailboxes.ts';
import { migration as version13 } from './migrations/13-lists-under-way.ts';
import { migration as version14 } from './migrations/14-certificates.ts';
import { migration as version15 } from './migrations/15-rehearsals.ts';
import { migration as version16 } from './migrations/16-trials.ts';
import { migration as version17 } from './migrations/17-witnesses.ts';
import { migration as version18 } from './migrations/18-upkeep.ts';
import { migration as version19 } from './migrations/19-transfers.ts';
import { migration as version20 } from './migrations/20-moved-addresses.ts';
import { migration as version21 } from './migrations/21-move-plans.ts';
import { migration as version22 } from './migrations/22-versions.ts';
import { migration as version23 } from './migrations/23-outline-lines.ts';
import { migration as version24 } from './migrations/24-found-by-age.ts';
import { migration as version25 } from './migrations/25-ids-instead-of-names.ts';

/** Each entry takes the database one version further. A version that was released is never changed (tests/store/migrations.test.ts). */
export const MIGRATIONS: readonly string[] = [
  version1,
  version2,
  version3,
  version4,
  version5,
  version6,
  version7,
  version8,
  version9,
  version10,
  version11,
  version12,
  version13,
  version14,
  version15,
  version16,
  version17,
  version18,
  version19,
  version20,
  version21,
  version22,
  version23,
  version24,
  version25,
];

/** The digest of the tables of the newest version: making them to compare with takes longer than opening the database. */
export const KNOWN_TABLES = { version: 25, digest: '68264e0065bd7ad1a4765465fd1421d6c1e2527c4745d6960f2d5b7eda8a0a64' };
