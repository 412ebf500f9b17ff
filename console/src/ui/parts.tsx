/** Small parts in the looks of the house. Radix primitives are wrapped thinly: refs are kept and props are spread. */
import { Dialog as RadixDialog, Tooltip } from "radix-ui";
import type { ComponentProps, ReactNode } from "react";
import { ago, exact } from "../format";

export function Page({ title, lead, action, children }: { title: string; lead?: ReactNode; action?: ReactNode; children: ReactNode }) {
  return (
    <div className="mx-auto max-w-[1080px] px-8 py-[26px] max-lg:px-4 max-lg:py-5">
      <div className="flex flex-wrap items-end justify-between gap-x-6 gap-y-3">
        <div>
          <h1 className="m-0 text-[29px] leading-tight max-sm:text-[25px]">{title}</h1>
          {lead && <p className="mt-1 mb-0 text-[16px] text-soft">{lead}</p>}
        </div>
        {action}
      </div>
      {children}
    </div>
  );
}

type ButtonProps = ComponentProps<"button"> & { look?: "plain" | "strong" | "danger" };
export function Button({ look = "plain", className = "", type = "button", ...rest }: ButtonProps) {
  const looks = {
    plain: "border-line bg-raised text-ink hover:border-soft",
    strong: "border-accent bg-accent text-on-accent hover:brightness-95",
    danger: "border-oxide bg-raised text-oxide hover:bg-oxide/10",
  }[look];
  return (
    <button
      type={type}
      className={`rounded-lg border px-3.5 py-1.5 text-[15px] font-semibold transition-colors disabled:cursor-default disabled:opacity-50 ${looks} ${className}`}
      {...rest}
    />
  );
}

/** A button that reads as a link does: within a text, a line, or a table. */
export function TextButton({ tone = "ink", className = "", type = "button", ...rest }: ComponentProps<"button"> & { tone?: "ink" | "soft" | "accent" }) {
  const tones = {
    ink: "text-ink underline decoration-line underline-offset-4 hover:decoration-ink",
    soft: "text-soft underline underline-offset-4 hover:text-ink",
    accent: "text-accent font-semibold hover:underline",
  }[tone];
  return <button type={type} className={`rounded border-0 bg-transparent p-0 text-left disabled:opacity-50 ${tones} ${className}`} {...rest} />;
}

/** A label above its field, joined by nesting. */
export function Field({ label, hint, ...rest }: ComponentProps<"input"> & { label: string; hint?: string }) {
  return (
    <label className="block">
      <span className="mb-1 block text-[14px] font-semibold">{label}</span>
      <input className="border-line bg-raised w-full rounded-lg border px-3 py-2 text-[16px] text-ink placeholder:text-soft/70" {...rest} />
      {hint && <span className="mt-1 block text-[13.5px] text-soft">{hint}</span>}
    </label>
  );
}

export const overlay = "fixed inset-0 z-40 bg-black/45";
export const panel = (wide: boolean) =>
  `border-line bg-paper fixed top-1/2 left-1/2 z-50 max-h-[92vh] w-[calc(100vw-24px)] -translate-x-1/2 -translate-y-1/2 overflow-y-auto rounded-2xl border p-6 text-ink shadow-xl max-sm:p-4 ${wide ? "max-w-[720px]" : "max-w-[480px]"}`;

/** A dialog with a title and a way out. */
export function Dialog({ open, onOpenChange, title, children, wide = false }: { open: boolean; onOpenChange: (open: boolean) => void; title: string; children: ReactNode; wide?: boolean }) {
  return (
    <RadixDialog.Root open={open} onOpenChange={onOpenChange}>
      <RadixDialog.Portal>
        <RadixDialog.Overlay className={overlay} />
        <RadixDialog.Content aria-describedby={undefined} className={panel(wide)}>
          <div className="mb-3 flex items-start justify-between gap-4">
            <RadixDialog.Title className="m-0 text-[22px] leading-snug">{title}</RadixDialog.Title>
            <RadixDialog.Close className="border-0 bg-transparent px-1 text-[22px] leading-none text-soft hover:text-ink" aria-label="Close">
              ×
            </RadixDialog.Close>
          </div>
          {children}
        </RadixDialog.Content>
      </RadixDialog.Portal>
    </RadixDialog.Root>
  );
}

/** A time as people say it, with the exact one on hover and focus. */
export function When({ at }: { at: string }) {
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>
        <time dateTime={at} tabIndex={0} className="rounded">
          {ago(at)}
        </time>
      </Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content sideOffset={4} className="bg-ink text-paper z-50 rounded px-2 py-1 text-[13px]">
          {exact(at)}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}

export type Tone = "well" | "busy" | "look" | "trouble" | "quiet";
/** A state in a word, with a shape of its own beside its colour. */
export function State({ tone, children }: { tone: Tone; children: ReactNode }) {
  const looks = { well: "text-turf-text", busy: "text-turf-text", look: "text-ochre-text", trouble: "text-oxide", quiet: "text-soft" }[tone];
  const sign = { well: "✓", busy: "↓", look: "●", trouble: "▲", quiet: "–" }[tone];
  return (
    <span className={`inline-flex items-baseline gap-1.5 font-semibold ${looks}`}>
      <span aria-hidden className="text-[0.8em]">
        {sign}
      </span>
      {children}
    </span>
  );
}

/** The looks of a table's parts. */
export const table = {
  head: "text-left text-[13.5px] font-semibold text-soft pb-2 pr-6 align-bottom",
  headNumber: "text-right text-[13.5px] font-semibold text-soft pb-2 pl-4 align-bottom",
  cell: "border-t border-line py-2.5 pr-6 align-top",
  number: "border-t border-line py-2.5 pl-4 text-right align-top numbers whitespace-nowrap",
};

/** A column: its heading; whether numbers stand below it; on screens how wide it is shown; whether its heading is for screen readers alone. */
export type Column = { name: string; number?: boolean; from?: "sm" | "md"; unseen?: boolean };

/** A table with a line of headings. */
export function Table({ columns, children, className = "" }: { columns: readonly Column[]; children: ReactNode; className?: string }) {
  const hidden = { sm: "max-sm:hidden", md: "max-md:hidden" };
  return (
    <table className={`w-full border-collapse text-[15px] ${className}`}>
      <thead>
        <tr>
          {columns.map((c) => (
            <th key={c.name} scope="col" className={`${c.number ? table.headNumber : table.head} ${c.from ? hidden[c.from] : ""}`}>
              {c.unseen ? <span className="sr-only">{c.name}</span> : c.name}
            </th>
          ))}
        </tr>
      </thead>
      {children}
    </table>
  );
}
