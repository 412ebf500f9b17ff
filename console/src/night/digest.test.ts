import { expect, test } from "vitest";
import { digestOf } from "./digest";

const KNOWN: [string, string][] = [
  ["", "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"],
  // FIPS 180-2, B.1 and B.2.
  ["abc", "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"],
  ["abcdbcdecdefdefgefghfghighijhijkijkljklmklmnlmnomnopnopq", "248d6a61d20638b8e5c026930c3e6039a33ce45964ff2167f6ecedd419db06c1"],
];

test.each(KNOWN)("%j has the same hash, whoever makes it and in whichever pieces", async (text, hash) => {
  const file = new Blob([text]);
  expect(await digestOf(file, crypto.subtle)).toBe(hash);
  expect(await digestOf(file, undefined)).toBe(hash);
  for (const piece of [1, 7, 56, 64]) expect(await digestOf(file, crypto.subtle, piece, -1)).toBe(hash);
});
