/** What is chosen: yes or no, one of several, one of a list. Radix primitives, wrapped thinly. */
import { Checkbox, RadioGroup, Select as RadixSelect } from "radix-ui";
import type { ReactNode } from "react";

/** A square that is marked or not, or in part. Beside it stands what it means, in its label. */
export function Tick({ checked, onChange, ...rest }: { checked: boolean | "indeterminate"; onChange: (on: boolean) => void; disabled?: boolean; "aria-label"?: string; className?: string }) {
  const { className = "", ...spread } = rest;
  return (
    <Checkbox.Root
      checked={checked}
      onCheckedChange={(now) => onChange(now === true)}
      className={`border-soft bg-raised text-on-accent flex size-[18px] shrink-0 items-center justify-center rounded border p-0 disabled:opacity-50 data-[state=checked]:border-accent data-[state=checked]:bg-accent data-[state=indeterminate]:border-accent data-[state=indeterminate]:bg-accent ${className}`}
      {...spread}
    >
      <Checkbox.Indicator aria-hidden className="text-[13px] leading-none font-bold">
        {checked === "indeterminate" ? "–" : "✓"}
      </Checkbox.Indicator>
    </Checkbox.Root>
  );
}

/** Yes or no: what is chosen, and below it what that means. */
export function Check({ title, children, className = "", ...mark }: { checked: boolean; onChange: (on: boolean) => void; disabled?: boolean; title: ReactNode; children?: ReactNode; className?: string }) {
  return (
    // biome-ignore lint/a11y/noLabelWithoutControl: the control is a Radix part
    <label className={`flex cursor-pointer items-start gap-2.5 ${className}`}>
      <Tick {...mark} className="mt-[3px]" />
      <span className="min-w-0">
        {title}
        {children && <span className="block text-[14px] text-soft">{children}</span>}
      </span>
    </label>
  );
}

/** One choice of a group: a round mark, a name, and what it means. */
export function Choice({ value, title, children }: { value: string; title: string; children?: ReactNode }) {
  return (
    // biome-ignore lint/a11y/noLabelWithoutControl: the control is a Radix part
    <label className="flex cursor-pointer items-start gap-3 py-1.5">
      <RadioGroup.Item value={value} className="border-soft bg-raised mt-[3px] flex size-[18px] shrink-0 items-center justify-center rounded-full border p-0 data-[state=checked]:border-accent">
        <RadioGroup.Indicator className="bg-accent size-[10px] rounded-full" />
      </RadioGroup.Item>
      <span className="min-w-0">
        <span className="font-semibold">{title}</span>
        {children && <span className="block text-[14.5px] break-words text-soft">{children}</span>}
      </span>
    </label>
  );
}

/** One of a list that opens. `label`: what it is about, for whoever cannot see what stands beside it. */
export function Select<V extends string>({ label, value, choices, onChange, placeholder, className = "" }: { label: string; value: V | undefined; placeholder?: string; choices: readonly (readonly [V, string])[]; onChange: (value: V) => void; className?: string }) {
  return (
    <RadixSelect.Root value={value ?? ""} onValueChange={(chosen) => onChange(chosen as V)}>
      <RadixSelect.Trigger aria-label={label} className={`border-line bg-raised inline-flex items-center justify-between gap-3 rounded-lg border px-3 py-1.5 text-left text-[15px] text-ink hover:border-soft ${className}`}>
        <RadixSelect.Value placeholder={placeholder} />
        <RadixSelect.Icon aria-hidden className="text-[11px] text-soft">
          ▼
        </RadixSelect.Icon>
      </RadixSelect.Trigger>
      <RadixSelect.Portal>
        <RadixSelect.Content position="popper" sideOffset={4} className="border-line bg-raised z-50 max-h-[60vh] min-w-(--radix-select-trigger-width) overflow-y-auto rounded-lg border p-1 text-[15px] text-ink shadow-xl">
          <RadixSelect.Viewport>
            {choices.map(([choice, word]) => (
              <RadixSelect.Item key={choice} value={choice} className="flex cursor-pointer items-baseline gap-2 rounded px-2.5 py-1.5 outline-none data-[highlighted]:bg-accent data-[highlighted]:text-on-accent">
                <span className="w-3 text-[12px]">
                  <RadixSelect.ItemIndicator>✓</RadixSelect.ItemIndicator>
                </span>
                <RadixSelect.ItemText>{word}</RadixSelect.ItemText>
              </RadixSelect.Item>
            ))}
          </RadixSelect.Viewport>
        </RadixSelect.Content>
      </RadixSelect.Portal>
    </RadixSelect.Root>
  );
}
