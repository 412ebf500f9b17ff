import { useState, type FormEvent, type ReactNode } from "react";
import { ask } from "../api/client";
import { keys, useDo } from "../api/hooks";
import { Mark } from "../shell";
import { Button, Field } from "../ui/parts";

export function SignIn() {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const signIn = useDo(() => ask("/api/session", "POST", { name, password }), [keys.me]);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    signIn.mutate(undefined);
  };
  return (
    <Outside>
        <form onSubmit={submit} className="flex flex-col gap-4">
          <Field label="Name" name="name" autoComplete="username" autoFocus required value={name} onChange={(e) => setName(e.target.value)} />
          <Field label="Password" name="password" type="password" autoComplete="current-password" required value={password} onChange={(e) => setPassword(e.target.value)} />
          {signIn.isError && (
            <p role="alert" className="m-0 text-[15px] font-semibold text-oxide">
              {signIn.error.detail}
            </p>
          )}
          <Button look="strong" type="submit" className="py-2.5" disabled={signIn.isPending}>
            {signIn.isPending ? "Signing in …" : "Sign in"}
          </Button>
        </form>
    </Outside>
  );
}

/** The page of somebody who is not in the house yet. */
export function Outside({ wide = false, children }: { wide?: boolean; children: ReactNode }) {
  // A wide one has a heading of its own.
  const Name = wide ? "div" : "h1";
  return (
    <div className="relative flex min-h-screen flex-col">
      <main className={`relative z-10 mx-auto flex w-full grow flex-col justify-center px-5 pb-28 ${wide ? "max-w-[680px] pt-7" : "max-w-[380px]"}`}>
        <Name className="mt-0 mb-6 flex items-center gap-3 font-head text-[26px] font-semibold">
          <span className="scale-[1.35]">
            <Mark />
          </span>
          Ypogeion
        </Name>
        {!wide && <p className="mt-0 mb-6 text-[17px] text-soft">The house’s pictures, kept safe: at home, away, and proven.</p>}
        {children}
      </main>
      <svg aria-hidden className="absolute inset-x-0 bottom-0 h-24 w-full" viewBox="0 0 1200 96" preserveAspectRatio="none">
        <path d="M0 26 C200 16 340 34 560 24 S980 18 1200 28 V96 H0Z" fill="var(--loam)" />
        <path d="M0 60 C240 50 420 68 640 58 S1000 52 1200 62 V96 H0Z" fill="var(--clay)" />
        <path d="M0 82 C260 74 480 90 700 82 S1020 76 1200 84 V96 H0Z" fill="var(--rock)" />
        <path d="M0 26 C200 16 340 34 560 24 S980 18 1200 28" fill="none" stroke="var(--turf)" strokeWidth="5" />
      </svg>
    </div>
  );
}
