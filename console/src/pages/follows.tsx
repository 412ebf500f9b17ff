/** What is said of albums that follow a line. */

/** What it means that an album follows a line. */
export const FOLLOWS = "All pictures of yours that it finds are in the album, and those that come later, too. What it no longer finds leaves the album. What you add or take out by hand stays that way.";

/** Whoever sees such an album sees what comes into it. */
export function Follows({ line }: { line: string }) {
  return (
    <p className="border-line border-l-4 pl-3">
      It follows <b className="font-semibold break-words">{line}</b>: pictures of yours that come later and are like that are shown, too, and you are not asked again.
    </p>
  );
}
