/** One's part of the library by folders, as they are on the disk, with their real names. */
import { Link, useSearchParams } from "react-router";
import { useFolder, useFound, useSome } from "../api/hooks";
import { count, counted } from "../format";
import { Page } from "../ui/parts";
import { addressOf, type Among } from "../ui/sheet";
import { Empty, Fault, Waiting } from "../ui/states";
import { Strip } from "../ui/strip";

/** The page of a folder. */
export const folderAt = (path: string) => `/folders?of=${encodeURIComponent(path)}`;
/** What finds the pictures in a folder and below. */
export const inFolder = (path: string): Among => ({ find: `folder "${path}"` });
/** A line that finds something is a little longer. */
const LONGEST = 480;
/** So many of its newest pictures are shown. */
const SOME = 24;

const link = "text-ink underline decoration-line underline-offset-4 hover:decoration-ink";

export function Folders() {
  const of = useSearchParams()[0].get("of") ?? "";
  const folder = useFolder(of);
  return (
    <Page title="Folders" lead="Your part of the library as it is on the server’s disk, where any program can read it.">
      {folder.isPending ? <Waiting what="the folder" /> : folder.isError ? <Fault failure={folder.error} again={() => void folder.refetch()} /> : <Shown folder={folder.data} />}
    </Page>
  );
}

function Shown({ folder: { path, folders, files, more } }: { folder: NonNullable<ReturnType<typeof useFolder>["data"]> }) {
  const these = inFolder(path);
  // A name with such a mark, or one that is longer than a line, cannot be looked for.
  const findable = !path.includes('"') && path.length < LONGEST;
  const found = useFound(findable ? these : { find: "" }, false);
  const some = useSome(these, SOME, findable);
  const parts = path.split("/");
  return (
    <>
      <nav aria-label="Where this folder is" className="mt-6 text-[17px]">
        {parts.map((part, n) => {
          const at = parts.slice(0, n + 1).join("/");
          return (
            <span key={at}>
              {n > 0 && <span className="px-1.5 text-soft">/</span>}
              {n === parts.length - 1 ? (
                <b aria-current="page" className="font-semibold break-words">
                  {part}
                </b>
              ) : (
                <Link to={folderAt(at)} className={link}>
                  {part}
                </Link>
              )}
            </span>
          );
        })}
      </nav>
      {folders.length === 0 && files === 0 ? (
        <Empty title="Nothing is here yet">What your devices send is filed in folders below this one.</Empty>
      ) : (
        <>
          <p className="numbers mt-1.5 mb-0 text-soft">
            {[folders.length > 0 && `${more ? "more than " : ""}${counted(folders.length, "folder")}`, files > 0 && `${more ? "more than " : ""}${counted(files, "file")} in itself, notes and raw files with them`].filter(Boolean).join("; ")}
          </p>
          {found.data && found.data.count > 0 && (
            <section className="mt-5">
              <p className="mt-0 mb-2">
                <Link to={addressOf(these)} className={link}>
                  Show {found.data.count < found.data.most ? (found.data.count === 1 ? "the picture" : `all ${count(found.data.count)} pictures`) : "all pictures"} in it and below
                </Link>
              </p>
              <Strip among={these} pictures={some.data?.originals ?? []} height={96} />
            </section>
          )}
          {folders.length > 0 && (
            <ul aria-label={`Folders in ${path}`} className="mt-5 grid list-none grid-cols-[repeat(auto-fill,minmax(190px,1fr))] gap-x-6 p-0">
              {folders.map((f) => (
                <li key={f.path} className="border-line border-b py-2">
                  <Link to={folderAt(f.path)} className="break-words text-ink no-underline hover:underline">
                    {f.name}
                  </Link>
                </li>
              ))}
            </ul>
          )}
        </>
      )}
    </>
  );
}
