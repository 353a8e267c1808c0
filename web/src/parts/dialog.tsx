import { Dialog } from "radix-ui";
import { useRef, type ReactNode } from "react";

/** The focus goes back where it came from, also where no button opened the dialog. */
function useReturn() {
  const from = useRef<Element | null>(null);
  return {
    onOpenAutoFocus: () => {
      from.current = document.activeElement;
    },
    onCloseAutoFocus: (event: Event) => {
      const element = from.current;
      if (!(element instanceof HTMLElement) || !element.isConnected || element === document.body) return;
      event.preventDefault();
      element.focus();
    },
  };
}

/** What a dialog shows at the right edge, beside the place that it is about. `width` is a class. */
export function Sheet({ width, children }: { width: string; children: ReactNode }) {
  const back = useReturn();
  return (
    <Dialog.Portal>
      <Dialog.Overlay className="fixed inset-0 z-30 bg-[#0003]" />
      <Dialog.Content
        {...back}
        aria-describedby={undefined}
        className={`fixed inset-y-0 right-0 z-40 ${width} overflow-y-auto border-l border-edge bg-paper p-5`}
      >
        {children}
      </Dialog.Content>
    </Dialog.Portal>
  );
}

/** What a dialog shows in the middle, before all else. `look` is classes. */
export function Box({ look, children }: { look: string; children: ReactNode }) {
  const back = useReturn();
  return (
    <Dialog.Portal>
      <Dialog.Overlay className="fixed inset-0 z-40 bg-[#0006]" />
      <Dialog.Content
        {...back}
        aria-describedby={undefined}
        className={`fixed left-1/2 z-50 -translate-x-1/2 border border-edge ${look}`}
      >
        {children}
      </Dialog.Content>
    </Dialog.Portal>
  );
}

/** A box with a title and a form in it. */
export function FormBox({ title, submit, children }: { title: string; submit: () => void; children: ReactNode }) {
  return (
    <Box look="top-[18vh] w-[min(520px,94vw)] bg-paper p-5">
      <DialogTitle>{title}</DialogTitle>
      <form
        className="grid gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          submit();
        }}
      >
        {children}
      </form>
    </Box>
  );
}

export const DialogTitle = ({ children }: { children: ReactNode }) => (
  <Dialog.Title className="mb-3 text-[17px] font-bold">{children}</Dialog.Title>
);
