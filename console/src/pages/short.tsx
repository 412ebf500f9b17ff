/** Which originals have too few copies, where they are, and what each needs. */
import { useShort, useOverview } from "../api/hooks";
import { count, counted, size } from "../format";
import { Button, Page, table, Table } from "../ui/parts";
import { Empty, Fault, Waiting } from "../ui/states";

export function Short() {
  const overview = useOverview();
  const short = useShort();
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
      {short.isPending ? (
        <Waiting what="the list" />
      ) : short.isError ? (
        <Fault failure={short.error} again={() => void short.refetch()} />
      ) : short.data.pages[0]?.originals.length === 0 ? (
        <Empty title="None">Every file has three copies, in two kinds of place, one of them offsite.</Empty>
      ) : (
        <>
          <div className="overflow-x-auto">
            <Table columns={[{ name: "File" }, { name: "Whose" }, { name: "Copies" }, { name: "What it needs" }, { name: "Size", number: true }]} className="mt-5">
              <tbody>
                {short.data.pages
                  .flatMap((p) => p.originals)
                  .map((o) => (
                    <tr key={o.id}>
                      <td className={`${table.cell} break-all`}>{o.path}</td>
                      <td className={table.cell}>{o.person}</td>
                      <td className={table.cell}>{o.places.length === 0 ? "none" : o.places.join(", ")}</td>
                      <td className={table.cell}>{o.needs}</td>
                      <td className={table.number}>{size(o.size)}</td>
                    </tr>
                  ))}
              </tbody>
            </Table>
          </div>
          {short.hasNextPage && (
            <Button className="mt-4" onClick={() => void short.fetchNextPage()} disabled={short.isFetchingNextPage}>
              Show more
            </Button>
          )}
          {all !== undefined && <p className="mt-3 text-[14.5px] text-soft">{counted(all, "file")} in all.</p>}
        </>
      )}
    </Page>
  );
}

/** `at home`, `at home and North Quay`. Whether one lies in a place or on it depends on the place. */
export function placesWords(places: string[]): string {
  const words = places.map((p) => (p === "home" ? "at home" : p));
  return words.length < 2 ? words.join() : `${words.slice(0, -1).join(", ")} and ${words[words.length - 1]}`;
}
