/** What is asked before something is taken away: what will happen, to how much, and nothing else on the page until it is answered. */
import { AlertDialog } from "radix-ui";
import type { ReactNode } from "react";
import type { Failure } from "../api/client";
import { Button, overlay, panel } from "./parts";
import { Fault } from "./states";

interface ConfirmProps {
  title: string;
  /** What will happen. */
  children: ReactNode;
  /** The word on the button that does it. */
  action: string;
  /** It is being done, or it is not known yet what it would do. */
  busy: boolean;
  failure: Failure | null;
  onConfirm: () => void;
  onClose: () => void;
}

export function Confirm({ title, children, action, busy, failure, onConfirm, onClose }: ConfirmProps) {
  return (
    <AlertDialog.Root open onOpenChange={(open) => !open && onClose()}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className={overlay} />
        <AlertDialog.Content className={panel(false)}>
          <AlertDialog.Title className="m-0 mb-3 text-[22px] leading-snug break-words">{title}</AlertDialog.Title>
          <AlertDialog.Description asChild>
            <div className="break-words">{children}</div>
          </AlertDialog.Description>
          {failure && <Fault failure={failure} />}
          <div className="mt-5 flex flex-wrap justify-end gap-2.5">
            <AlertDialog.Cancel asChild>
              <Button>Cancel</Button>
            </AlertDialog.Cancel>
            <Button look="danger" disabled={busy} onClick={onConfirm}>
              {action}
            </Button>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
