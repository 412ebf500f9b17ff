/** Which files have which copies: too few of them, or what a number of the overview counts. */
import { Link, useParams } from "react-router";
import { useCopies, useOverview } from "../api/hooks";
import type { Overview } from "../api/client";
import { count, counted, size } from "../format";
import { Button, Page, table, Table } from "../ui/parts";
import { Empty, Fault, Waiting } from "../ui/states";

export function Short() {
  const overview = useOverview();
  const rule = overview.data?.three_two_one;
  const all = rule?.short.reduce((n, s) => n + s.amount.count, 0);
  return (
    <Page title="Too few copies" lead="With three copies, in two kinds of place, one of them offsite, no single accident can lose a picture.">
      {rule && rule.short.length > 0 && (
        <ul className="mt-5 mb-2 list-none space-y-1 p-0">
          {rule.short.map((s) => (
            <li key={s.places.join()}>
              <b className="numbers font-semibold">{count(s.amount.count)}</b> {s.places.length === 0 ? "without a good copy" : `only ${placesWords(s.places)}`}, {size(s.amount.bytes)}: {s.amount.count > 1 && "each "}{s.needs}
            </li>
          ))}
        </ul>
      )}
      <Files which="short" all={all} none="Every file has three copies, in two kinds of place, one of them offsite." needs />
    </Page>
  );
}

interface Told {
  title: string;
  lead: (house: Overview) => string;
  count: (house: Overview) => number;
  none: string;
}

/** What is told of each number. */
const NUMBERS: { [which: string]: Told } = {
  home: { title: "At home", lead: (h) => `Good on the home disk, in plain folders: ${size(h.home.bytes)}.`, count: (h) => h.home.count, none: "No file is at home yet." },
  offsite: { title: "Offsite", lead: (h) => `In at least one store outside of the house: ${size(h.offsite.bytes)}.`, count: (h) => h.offsite.count, none: "No file has a copy outside of the house yet." },
  exposed: { title: "Still to send", lead: (h) => `At home, and in no store outside of the house: ${size(h.exposed.bytes)}.`, count: (h) => h.exposed.count, none: "Every file that is at home has a copy offsite." },
  proven: { title: "Proven", lead: (h) => `Read back from a store, opened and found right within ${h.proven_days} days.`, count: (h) => h.proven.count, none: "No copy was read back yet." },
  unproven: { title: "Not read back lately", lead: (h) => `In a store, and not read back from one within ${h.proven_days} days. The next checks take those first that wait longest.`, count: (h) => h.offsite.count - h.proven.count, none: "Every copy was read back lately." },
  damaged: { title: "Damaged or missing at home", lead: () => "They cannot be read on the home disk as they were received. If a device or a store has a good copy, they are replaced.", count: (h) => h.damaged, none: "No file is damaged or missing at home." },
  coming: { title: "On their way home", lead: (h) => `Being fetched from the stores: ${size(h.coming.bytes)} still to come.`, count: (h) => h.coming.count, none: "Nothing is being fetched." },
};

/** The files that a number of the overview counts. */
export function CountedFiles() {
  const { which = "" } = useParams();
  const overview = useOverview();
  const told = NUMBERS[which];
  if (!told) {
    return (
      <Page title="Files" lead="There is no such list.">
        <Link to="/">Overview</Link>
      </Page>
    );
  }
  const house = overview.data;
  return (
    <Page title={told.title} lead={house && told.lead(house)}>
      <Files key={which} which={which} all={house && told.count(house)} none={told.none} />
    </Page>
  );
}

function Files({ which, all, none, needs = false }: { which: string; all: number | undefined; none: string; needs?: boolean }) {
  const files = useCopies(which);
  if (files.isPending) return <Waiting what="the list" />;
  if (files.isError) return <Fault failure={files.error} again={() => void files.refetch()} />;
  if (files.data.pages[0]?.files.length === 0) return <Empty title="None">{none}</Empty>;
  const columns = [{ name: "File" }, { name: "Whose" }, { name: "Copies" }, ...(needs ? [{ name: "What it needs" }] : []), { name: "Size", number: true }];
  return (
    <>
      <div className="overflow-x-auto">
        <Table columns={columns} className="mt-5">
          <tbody>
            {files.data.pages
              .flatMap((p) => p.files)
              .map((o) => (
                <tr key={o.id}>
                  <td className={`${table.cell} break-all`}>{o.path}</td>
                  <td className={table.cell}>{o.person}</td>
                  <td className={table.cell}>{o.places.length === 0 ? "none" : o.places.join(", ")}</td>
                  {needs && <td className={table.cell}>{o.needs}</td>}
                  <td className={table.number}>{size(o.size)}</td>
                </tr>
              ))}
          </tbody>
        </Table>
      </div>
      {files.hasNextPage && (
        <Button className="mt-4" onClick={() => void files.fetchNextPage()} disabled={files.isFetchingNextPage}>
          Show more
        </Button>
      )}
      {all !== undefined && <p className="mt-3 text-[14.5px] text-soft">{counted(all, "file")} in all.</p>}
    </>
  );
}

/** `at home`, `at home and North Quay`. Whether one lies in a place or on it depends on the place. */
export function placesWords(places: string[]): string {
  const words = places.map((p) => (p === "home" ? "at home" : p));
  return words.length < 2 ? words.join() : `${words.slice(0, -1).join(", ")} and ${words[words.length - 1]}`;
}
