/** What the copies in a store cost, from prices that the keeper copies off its contract. */
import { useState, type FormEvent } from "react";
import { ask, type Schemas, type Store } from "../api/client";
import { keys, useDo } from "../api/hooks";
import { money, size } from "../format";
import { Button, Dialog, Field } from "../ui/parts";
import { Fault } from "../ui/states";

type Prices = Schemas["Prices"];

/** The three numbers that a keeper asks for; the parts of the month stand behind a fold. */
export function CostView({ store: s }: { store: Store }) {
  const [editing, setEditing] = useState(false);
  const c = s.cost;
  const say = (n: number) => money(n, s.prices.currency);
  return (
    <div className="mt-5">
      {c ? (
        <>
          <dl className="m-0 flex flex-wrap gap-x-12 gap-y-3">
            <Sum name="Costs a month" value={say(c.month)} line={`in a year ${say(c.month_in_a_year)} a month`} />
            <Sum name="The coming year" value={say(c.year)} line={c.growth > 0 ? `if it grows by ${size(c.growth)} a month` : "if nothing is added"} />
            <Sum name="Restoring everything" value={say(c.recovery)} line="once, if this house were gone" />
          </dl>
          <details className="mt-2 text-[14.5px] text-soft">
            <summary className="w-fit cursor-pointer">How this is calculated</summary>
            <p className="mt-1 mb-0">
              Keeping {say(c.keeping)}, reading copies again {say(c.checking)}, sending what is new {say(c.sending)}
              {s.prices.fee > 0 && `, its fee ${say(s.prices.fee)}`}.
              {c.early > 0 && ` Removing copies before the store’s minimum time costs ${say(c.early)} more.`} A forecast from your prices, not a bill.
            </p>
          </details>
        </>
      ) : (
        <p className="m-0 text-[14.5px] text-soft">What this store costs is not known yet. Enter its prices from the contract.</p>
      )}
      <Button className="mt-2.5" onClick={() => setEditing(true)}>
        {c ? "Prices …" : "Enter its prices …"}
      </Button>
      {editing && <PricesDialog store={s} onClose={() => setEditing(false)} />}
    </div>
  );
}

function Sum({ name, value, line }: { name: string; value: string; line: string }) {
  return (
    <div>
      <dt className="text-[14px] text-soft">{name}</dt>
      <dd className="m-0">
        <span className="numbers block font-head text-[22px] leading-tight font-medium">{value}</span>
        <span className="text-[14px] text-soft">{line}</span>
      </dd>
    </div>
  );
}

const NUMBERS: [Exclude<keyof Prices, "currency">, string, string][] = [
  ["storage", "A gigabyte kept for a month", ""],
  ["free_storage", "Gigabytes kept free of charge", ""],
  ["egress", "A gigabyte fetched", ""],
  ["free_egress", "Gigabytes a month fetched free of charge", ""],
  ["writing", "A thousand requests that write or list", ""],
  ["reading", "A thousand requests that read", ""],
  ["fee", "Fee for each month", ""],
  ["minimum_days", "Minimum storage time, in days", "What is removed earlier is charged to that day."],
];

function PricesDialog({ store, onClose }: { store: Store; onClose: () => void }) {
  const [currency, setCurrency] = useState(store.prices.currency || "€");
  const [form, setForm] = useState(() => Object.fromEntries(NUMBERS.map(([key]) => [key, store.prices[key] === 0 ? "" : String(store.prices[key])])));
  const save = useDo(() => {
    const numbers = Object.fromEntries(NUMBERS.map(([key]) => [key, Number((form[key] ?? "").replace(",", ".")) || 0]));
    return ask(`/api/stores/${store.id}`, "PATCH", { prices: { ...numbers, currency } });
  }, [keys.stores, keys.overview]);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    save.mutate(undefined, { onSuccess: onClose });
  };
  return (
    <Dialog open onOpenChange={(o) => !o && onClose()} title={`Prices of ${store.name}`} wide>
      <p className="mt-0 text-soft">From the contract, in whole euros, dollars or the like: six tenths of a cent are 0.006. Leave empty what it does not charge for. A gigabyte is 1,000 megabytes.</p>
      <form onSubmit={submit} className="grid gap-4 sm:grid-cols-2">
        <Field label="Currency" value={currency} maxLength={8} onChange={(e) => setCurrency(e.currentTarget.value)} />
        {NUMBERS.map(([key, label, hint]) => (
          <Field key={key} name={key} label={label} hint={hint || undefined} inputMode="decimal" pattern="[0-9]*[.,]?[0-9]*" placeholder="0" value={form[key]} onChange={(e) => setForm({ ...form, [key]: e.currentTarget.value })} />
        ))}
        <div className="sm:col-span-2">
          {save.isError && <Fault failure={save.error} />}
          <Button look="strong" type="submit" disabled={save.isPending}>
            Save
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
