// Help: the pages of docs/help, the one of the place first, and a search over all of them.
import { useRouterState } from "@tanstack/react-router";
import { Dialog } from "radix-ui";
import { lazy, Suspense, useState } from "react";
import { helpPageOf } from "./helppages";

const Pages = lazy(() => import("./helptext"));

export function Help({ open, onOpenChange }: { open: boolean; onOpenChange: (o: boolean) => void }) {
  return (
    <Dialog.Root open={open} onOpenChange={onOpenChange}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/10" />
        <Dialog.Content
          className="pop fixed top-14 left-1/2 z-50 flex h-[80vh] w-[860px] max-w-[94vw] -translate-x-1/2 flex-col"
          aria-describedby={undefined}
        >
          <div className="flex items-baseline px-6 pt-4 pb-2">
            <Dialog.Title className="font-letter text-lg font-semibold">Help</Dialog.Title>
            <Dialog.Close className="link ml-auto">
              close
              <kbd className="key" aria-hidden>
                Esc
              </kbd>
            </Dialog.Close>
          </div>
          <Suspense fallback={<p className="px-6 text-ink-2">One moment …</p>}>
            <Here />
          </Suspense>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

// The page of where one is.
function Here() {
  const path = useRouterState({ select: (s) => s.location.pathname });
  const search = useRouterState({ select: (s) => s.location.search });
  const [first] = useState(() => helpPageOf(path, search));
  return <Pages first={first} />;
}
