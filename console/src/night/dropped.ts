/** What somebody dropped, chose or pasted: the pictures in it, each with the folder that it was in. */

export interface Found {
  file: File;
  /** Its folder, as it was dropped; empty for a file by itself. */
  folder: string;
}

/** Extensions that browsers know no type of. */
const KNOWN = new Set("heic heif hif avif jxl jp2 bmp tif tiff dng nef cr2 cr3 arw rw2 orf raf pef srw x3f iiq mts m2ts mkv 3gp 3g2 avi mov xmp aae thm".split(" "));

/** Whether a household keeps it as a picture, a film, or what belongs to one. */
export function isPicture({ name, type }: { name: string; type: string }): boolean {
  if (name.startsWith(".")) return false;
  return type.startsWith("image/") || type.startsWith("video/") || KNOWN.has(name.split(".").pop()?.toLowerCase() ?? "");
}

/** No folder has more folders in folders. */
const DEEPEST = 40;

/** Everything in what was dropped, also in folders. */
export async function dropped(items: DataTransferItemList): Promise<Found[]> {
  // Entries are there only until the event has ended; what is in them, afterwards as well.
  const entries = [...items].flatMap((item) => item.webkitGetAsEntry() ?? []);
  // What another page made has no entries, and is a file all the same.
  const all: Found[] = entries.length > 0 ? [] : [...items].flatMap((item) => item.getAsFile() ?? []).map((file) => ({ file, folder: "" }));
  for (const entry of entries) await gather(entry, "", all, 0);
  return all;
}

async function gather(entry: FileSystemEntry, folder: string, all: Found[], depth: number): Promise<void> {
  if (entry.isFile) {
    const file = await new Promise<File>((resolve, reject) => (entry as FileSystemFileEntry).file(resolve, reject)).catch(() => undefined);
    if (file) all.push({ file, folder });
    return;
  }
  if (!entry.isDirectory || depth >= DEEPEST) return;
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  const below = folder ? `${folder}/${entry.name}` : entry.name;
  // A reader tells some at a time, and none at the end.
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((resolve, reject) => reader.readEntries(resolve, reject)).catch(() => []);
    if (some.length === 0) return;
    for (const one of some) await gather(one, below, all, depth + 1);
  }
}

/** Files from a field: of a folder that was chosen, each with its own. */
export const chosen = (files: Iterable<File>): Found[] => [...files].map((file) => ({ file, folder: file.webkitRelativePath.split("/").slice(0, -1).join("/") }));
