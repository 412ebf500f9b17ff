/** A store that is tried out: step by step what works, and what a failure means. */
import { Fragment, useEffect } from "react";
import { ask, type Schemas, type Store } from "../api/client";
import { useDo } from "../api/hooks";
import { Button, Dialog, State, type Tone } from "../ui/parts";
import { Fault, Waiting } from "../ui/states";

type Trial = Schemas["Trial"];

const STEPS: { [step: string]: string } = {
  reach: "Connect",
  clock: "Clocks agree",
  "sign-in": "Sign in",
  write: "Store something",
  "read-back": "Read it back",
  notice: "Notice damage",
  list: "List",
  conditional: "Refuse to overwrite",
  lock: "Retention lock",
  delete: "Remove it",
  speed: "Speed",
};
const WENT: { [went: string]: [Tone, string] } = { well: ["well", "works"], noted: ["quiet", "good to know"], badly: ["trouble", "does not work"] };

export function TrialSteps({ trial }: { trial: Trial }) {
  return (
    <ol className="m-0 mb-4 list-none p-0" aria-label="What was tested">
      {trial.steps.map((s) => {
        const [tone, word] = WENT[s.went] ?? ["quiet", s.went];
        return (
          <li key={s.step} className="border-line grid gap-x-4 border-t py-2 first:border-t-0 sm:grid-cols-[160px_130px_1fr] sm:items-baseline">
            <span className="font-semibold">{STEPS[s.step] ?? s.step}</span>
            <State tone={tone}>{word}</State>
            <span className="min-w-0 break-words text-[15px]">
              {s.said}
              {s.certificate && (
                <span className="mt-1 block text-soft">
                  Its fingerprint (SHA-256): <code className="block text-[13px]">
                    {/* Not within a pair. */}
                    {s.certificate.split(":").map((pair, n, all) => (
                      <Fragment key={n}>
                        {pair}
                        {n < all.length - 1 && ":"}
                        <wbr />
                      </Fragment>
                    ))}
                  </code>
                </span>
              )}
            </span>
          </li>
        );
      })}
    </ol>
  );
}

export function TrialDialog({ store, onClose }: { store: Store; onClose: () => void }) {
  const trial = useDo(() => ask<Trial>(`/api/stores/${store.id}/trial`, "POST"), []);
  const { mutate } = trial;
  useEffect(() => mutate(undefined), [mutate]);
  return (
    <Dialog open onOpenChange={(o) => !o && onClose()} title={`Test of ${store.name}`} wide>
      {trial.isError ? (
        <Fault failure={trial.error} again={() => mutate(undefined)} />
      ) : trial.data && !trial.isPending ? (
        <>
          <TrialSteps trial={trial.data} />
          <p className="mt-0 mb-4 font-semibold">{trial.data.usable ? "This store can be used." : "This store cannot be used yet. See above what failed, and what to do."}</p>
          <Button onClick={() => mutate(undefined)}>Test again</Button>
        </>
      ) : (
        <Waiting what="the test" />
      )}
    </Dialog>
  );
}
