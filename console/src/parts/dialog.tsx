import { Dialog as Radix } from "radix-ui";
import type { ReactNode } from "react";

/** Dialog asks something over the page; open it by its trigger. */
export function Dialog(props: { trigger: ReactNode; title: string; about: ReactNode; children: ReactNode; open: boolean; onOpenChange: (open: boolean) => void }) {
  return (
    <Radix.Root open={props.open} onOpenChange={props.onOpenChange}>
      <Radix.Trigger asChild>{props.trigger}</Radix.Trigger>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-40 bg-black/55" />
        <Radix.Content className="fixed top-[18vh] left-1/2 z-50 max-h-[75vh] w-[min(32rem,92vw)] -translate-x-1/2 overflow-auto rounded-xl border border-line bg-surface p-6 shadow-(--shadow)">
          <Radix.Title className="text-lg font-semibold">{props.title}</Radix.Title>
          <Radix.Description asChild>
            <div className="mt-1.5 text-soft">{props.about}</div>
          </Radix.Description>
          <div className="mt-5">{props.children}</div>
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}

export const DialogClose = Radix.Close;
