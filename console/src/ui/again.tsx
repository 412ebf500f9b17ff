/**
 * The password, typed again: for what opens, or changes, what all depends on. The API says when it wants it; whatever was asked for is
 * then asked once more, so that no page has to know.
 */
import { useEffect, useState, type FormEvent } from "react";
import { ask, onPasswordWanted, type Failure } from "../api/client";
import { Button, Dialog, Field } from "./parts";
import { Fault } from "./states";

export function PasswordAgain({ name }: { name: string }) {
  const [waiting, setWaiting] = useState<(proved: boolean) => void>();
  const [password, setPassword] = useState("");
  const [failure, setFailure] = useState<Failure>();
  const [busy, setBusy] = useState(false);
  // The outside system: the API client, which asks here when an answer asks for the password.
  useEffect(() => onPasswordWanted(() => new Promise((answer) => setWaiting(() => answer))), []);
  const end = (proved: boolean) => {
    waiting?.(proved);
    setWaiting(undefined);
    setPassword("");
    setFailure(undefined);
  };
  const submit = async (e: FormEvent) => {
    e.preventDefault();
    // A form of a page may hold this dialog in its tree; it is not the one that is sent.
    e.stopPropagation();
    setBusy(true);
    try {
      await ask("/api/session/proof", "POST", { password });
      end(true);
    } catch (e) {
      setFailure(e as Failure);
    } finally {
      setBusy(false);
    }
  };
  return (
    <Dialog open={waiting !== undefined} onOpenChange={(o) => !o && end(false)} title="Your password again">
      <p className="mt-0 text-soft">This step can open or change everything, so it needs your password, even though you are signed in. You are not asked again for ten minutes.</p>
      <form onSubmit={(e) => void submit(e)} className="flex flex-col gap-4">
        <input type="text" name="username" autoComplete="username" value={name} readOnly hidden />
        <Field label="Password" name="password" type="password" autoComplete="current-password" required autoFocus value={password} onChange={(e) => setPassword(e.target.value)} />
        {failure && <Fault failure={failure} />}
        <Button look="strong" type="submit" disabled={busy}>
          Continue
        </Button>
      </form>
    </Dialog>
  );
}
