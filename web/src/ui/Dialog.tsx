import { X } from "lucide-react";
import { Dialog } from "radix-ui";
import { type ReactNode, useRef } from "react";

/** A window over the page, closed by Escape. The focus goes back to where it was, or to what ``returnTo`` gives. */
export function Window({
  open,
  onOpenChange,
  title,
  about,
  children,
  width = "max-w-xl",
  returnTo,
}: {
  open: boolean;
  onOpenChange: (open: boolean) => void;
  title: string;
  about?: string;
  children: ReactNode;
  width?: string;
  returnTo?: () => HTMLElement | null;
}) {
  const before = useRef<Element | null>(null);
  const shown = useRef(false);
  // seen before anything in the window takes the focus as it comes
  if (open && !shown.current) before.current = document.activeElement;
  shown.current = open;
  function back(event: Event) {
    event.preventDefault();
    const to = returnTo?.() ?? before.current;
    if (to instanceof HTMLElement) to.focus();
  }
  return (
    <Dialog.Root open={open} onOpenChange={onOpenChange}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/25" />
        <Dialog.Content
          className={`popover fixed top-[12vh] left-1/2 z-50 max-h-[76vh] w-[92vw] ${width} -translate-x-1/2 overflow-auto p-4`}
          onCloseAutoFocus={back}
          {...(about ? {} : { "aria-describedby": undefined })}
        >
          <div className="mb-2 flex items-start gap-3">
            <Dialog.Title className="flex-1 font-serif text-section font-semibold">{title}</Dialog.Title>
            <Dialog.Close aria-label="Close" className="text-soft">
              <X size={16} />
            </Dialog.Close>
          </div>
          {about && <Dialog.Description className="mb-3 text-soft">{about}</Dialog.Description>}
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
