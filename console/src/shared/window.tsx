// A small window with a form of a few fields and one action.

import { Dialog } from "radix-ui";
import type { ReactNode } from "react";

export function Window(props: {
  title: string;
  action: string;
  error: string;
  disabled?: boolean;
  onSubmit: () => void;
  children: ReactNode;
}) {
  return (
    <Dialog.Portal>
      <Dialog.Overlay className="fixed inset-0 z-20 bg-[#14212b]/40" />
      <Dialog.Content
        aria-describedby={undefined}
        className="fixed top-24 left-1/2 z-20 w-80 -translate-x-1/2 rounded-sm border border-line bg-raised p-4"
      >
        <Dialog.Title className="mb-3 text-base font-semibold">{props.title}</Dialog.Title>
        <form
          className="flex flex-col gap-3"
          onSubmit={(e) => {
            e.preventDefault();
            props.onSubmit();
          }}
        >
          {props.children}
          {props.error && (
            <p role="alert" className="text-bad">
              {props.error}
            </p>
          )}
          <div className="flex justify-end gap-2">
            <Dialog.Close className="button" type="button">
              Cancel
            </Dialog.Close>
            <button className="button main" type="submit" disabled={props.disabled}>
              {props.action}
            </button>
          </div>
        </form>
      </Dialog.Content>
    </Dialog.Portal>
  );
}
