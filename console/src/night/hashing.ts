/** The SHA-256 of a file, found out beside the page, one file after the other. */

let worker: Worker | undefined;
let next = 0;
const waiting = new Map<number, (digest: string | undefined) => void>();

function begun(): Worker {
  if (worker) return worker;
  const made = new Worker(new URL("./hash.worker.ts", import.meta.url), { type: "module" });
  made.onmessage = ({ data }: MessageEvent<{ id: number; digest: string | undefined }>) => {
    waiting.get(data.id)?.(data.digest);
    waiting.delete(data.id);
  };
  // Without it, everything is sent, and the server keeps equal bytes once.
  made.onerror = () => {
    for (const tell of waiting.values()) tell(undefined);
    waiting.clear();
    worker = undefined;
  };
  worker = made;
  return made;
}

/** Undefined: nobody could find out. */
export function digestOf(file: File): Promise<string | undefined> {
  const id = next++;
  return new Promise((resolve) => {
    waiting.set(id, resolve);
    try {
      begun().postMessage({ id, file });
    } catch {
      waiting.delete(id);
      resolve(undefined);
    }
  });
}
