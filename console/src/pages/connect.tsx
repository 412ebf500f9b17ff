/** A password for a program that speaks an open protocol and knows nothing of pairing codes. */
import { useState, type FormEvent } from "react";
import { ask, type Schemas } from "../api/client";
import { keys, useDo } from "../api/hooks";
import { Button, Dialog, Field } from "../ui/parts";
import { Fault } from "../ui/states";

export function ConnectDialog({ onClose }: { onClose: () => void }) {
  const [name, setName] = useState("");
  const connect = useDo(() => ask<Schemas["Connected"]>("/api/devices", "POST", { name }), [keys.devices]);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    connect.mutate(undefined);
  };
  const given = connect.data;
  return (
    <Dialog open onOpenChange={(o) => !o && onClose()} title={given ? `${given.name} can send now` : "Connect a program"} wide={!!given}>
      {given ? (
        <Given given={given} onClose={onClose} />
      ) : (
        <form onSubmit={submit} className="flex flex-col gap-4">
          <p className="m-0 text-soft">For a program or a camera that can send by WebDAV or tus. It gets its own password, so you never type yours into it.</p>
          <Field label="What to call it" required maxLength={60} autoFocus value={name} onChange={(e) => setName(e.target.value)} hint="For example the program and the machine that it runs on." />
          {connect.isError && <Fault failure={connect.error} />}
          <Button look="strong" type="submit" disabled={connect.isPending}>
            Create its password
          </Button>
        </form>
      )}
    </Dialog>
  );
}

function Given({ given, onClose }: { given: Schemas["Connected"]; onClose: () => void }) {
  return (
    <div>
      <p className="mt-0">Type this into the program. The password is shown only now. If it is lost, revoke the program and connect it again.</p>
      <dl className="m-0 grid grid-cols-[auto_1fr] gap-x-5 gap-y-2.5 text-[15px] max-sm:grid-cols-1 max-sm:gap-y-1">
        <Line label="Folders (WebDAV)" value={given.folders} />
        <Line label="or uploads (tus)" value={given.uploads} />
        <Line label="User name" value={given.user} />
        <Line label="Password" value={given.password} />
        {given.certificate && <Line label="Certificate (SHA-256)" value={given.certificate} small />}
      </dl>
      <p className="mt-5 text-[14px] text-soft">
        It can add files and read its own. It cannot delete or replace anything here: if it overwrites a file, the old one is kept, too.
        {given.certificate && " The program may warn that it does not know the certificate. Compare its fingerprint with the one above before you accept it."}
      </p>
      <Button look="strong" onClick={onClose}>
        Done
      </Button>
    </div>
  );
}

function Line({ label, value, small = false }: { label: string; value: string; small?: boolean }) {
  return (
    <>
      <dt className="text-soft max-sm:mt-2">{label}</dt>
      <dd className={`m-0 font-mono break-all select-all ${small ? "text-[13px]" : ""}`}>{value}</dd>
    </>
  );
}
