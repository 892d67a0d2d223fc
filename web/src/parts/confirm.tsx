// Asks before something is done that goes outside or takes something away: it says what it
// does in figures, on the button too.
import { AlertDialog } from "radix-ui";
import type { ReactNode } from "react";

type Props = {
  title: string;
  children: ReactNode; // what it does
  act: string; // on the button
  busy?: boolean;
  onYes: () => void;
  onNo: () => void;
};

export function Confirm({ title, children, act, busy, onYes, onNo }: Props) {
  return (
    <AlertDialog.Root open onOpenChange={(open) => !open && onNo()}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-50 bg-ink/10" />
        <AlertDialog.Content className="pop fixed top-24 left-1/2 z-50 max-h-[80vh] w-[480px] max-w-[94vw] -translate-x-1/2 overflow-auto p-6">
          <AlertDialog.Title className="font-letter text-lg font-semibold">{title}</AlertDialog.Title>
          <AlertDialog.Description asChild>
            <div className="mt-1 mb-4">{children}</div>
          </AlertDialog.Description>
          <div className="flex flex-wrap items-center gap-3">
            <button type="button" className="act bg-brick! text-paper!" disabled={busy} onClick={onYes}>
              {act}
            </button>
            <AlertDialog.Cancel className="act-plain">Cancel</AlertDialog.Cancel>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
