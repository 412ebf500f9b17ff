/** Hashes files beside the page. */
import { digestOf } from "./digest";

self.onmessage = async ({ data: { id, file } }: MessageEvent<{ id: number; file: File }>) => {
  // What cannot be read now cannot be sent either, which says why.
  const digest = await digestOf(file, self.crypto?.subtle).catch(() => undefined);
  self.postMessage({ id, digest });
};
