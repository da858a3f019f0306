import type { BucketSettings } from '../net/bucket.ts';
import type { Config } from '../service/app/config.ts';
import type { BackupSettings } from '../service/backups/deps.ts';

/** What the configuration says of a bucket. */
export const bucketOf = ({
  endpoint,
  region,
  name,
  prefix,
  access_key,
  secret_key_file,
}: NonNullable<Config['backup']['bucket']>): BucketSettings => ({
  ...{ endpoint, region, name, prefix, accessKey: access_key, secretKeyFile: secret_key_file },
});

/** What the configuration says of backups. */
export const backupSettingsOf = ({ data, secrets, backup }: Pick<Config, 'data' | 'secrets' | 'backup'>): BackupSettings => ({
  data,
  keyFile: secrets.key_file,
  target: backup.target ?? null,
  everyHours: backup.every_hours,
  verifyDays: backup.verify_days,
  integrityDays: backup.integrity_days,
  perSecond: backup.mib_per_second * 1024 * 1024,
  keep: { daily: backup.keep_daily, weekly: backup.keep_weekly, monthly: backup.keep_monthly },
  passphraseFile: backup.passphrase_file ?? null,
  bucket: backup.bucket ? { name: `${backup.bucket.name} at ${backup.bucket.endpoint}`, settings: bucketOf(backup.bucket) } : null,
});
