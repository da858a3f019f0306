import { randomBytes } from 'node:crypto';
import { closeSync, fdatasyncSync, fsyncSync, openSync, renameSync, statSync, unlinkSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import type { FilePlace, TextFile, Written } from './file-writer.ts';

/** Files that are made durable together: the file system commits once for several. */
const GROUP = 16;

/**
 * What the thread that writes files does. Those of a group are written first and made durable then; what was not whole when something failed is taken
 * away, and not told as written.
 */
export function fileWork(where: FilePlace): { answer: (texts: readonly TextFile[]) => Written } {
  let folder: number | null = null;
  const syncFolder = (): void => {
    folder ??= openSync(where.folder, 'r');
    fsyncSync(folder);
  };
  const writeGroup = (texts: readonly TextFile[]): void => {
    const open: { name: string; temporary: string; file: number; isRenamed: boolean }[] = [];
    try {
      for (const { name, content } of texts) {
        const temporary = join(where.folder, where.unfinished + randomBytes(12).toString('hex'));
        const one = { name, temporary, file: openSync(temporary, 'wx', 0o600), isRenamed: false };
        open.push(one);
        for (let at = 0; at < content.length; ) at += writeSync(one.file, content, at);
      }
      for (const { file } of open) fdatasyncSync(file);
      for (const one of open) {
        renameSync(one.temporary, join(where.folder, one.name));
        one.isRenamed = true;
      }
      syncFolder();
    } finally {
      for (const { file, temporary, isRenamed } of open) {
        closeSync(file);
        if (!isRenamed) unlinkSync(temporary);
      }
    }
  };
  return {
    answer: (texts) => {
      const names: string[] = [];
      try {
        const there = texts.filter(isWhole);
        // It may have been renamed before something failed, and its name not be durable yet.
        if (there.length > 0) syncFolder();
        names.push(...there.map((one) => one.name));
        const missing = texts.filter((one) => !there.includes(one));
        for (let at = 0; at < missing.length; at += GROUP) {
          const group = missing.slice(at, at + GROUP);
          writeGroup(group);
          names.push(...group.map((one) => one.name));
        }
        return { names, fault: null };
      } catch (error) {
        return { names, fault: error instanceof Error ? error.message : String(error) };
      }
    },
  };
}

const isWhole = ({ content, places }: TextFile): boolean =>
  places.some((place) => {
    try {
      return statSync(place, { throwIfNoEntry: false })?.size === content.length;
    } catch {
      return false;
    }
  });
