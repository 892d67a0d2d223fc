import { Popover } from "radix-ui";
import type { ReactNode } from "react";

// A blank of a sentence: its words, and the small picker that opens from it.
export function Blank({
  words,
  title,
  children,
  label,
  open,
  onOpenChange,
  disabled,
  plain,
}: {
  words: ReactNode;
  title: string;
  children: ReactNode;
  label?: string;
  open?: boolean;
  onOpenChange?: (o: boolean) => void;
  disabled?: boolean;
  plain?: boolean; // an act like others, not a blank of a sentence
}) {
  if (disabled) return <b className="font-[560]">{words}</b>;
  return (
    <Popover.Root open={open} onOpenChange={onOpenChange}>
      <Popover.Trigger asChild>
        <button
          type="button"
          className={plain ? "link" : "blank"}
          aria-label={label ? `${label}: ${typeof words === "string" ? words : ""}` : undefined}
        >
          {words}
        </button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          aria-label={title}
          className="pop max-h-[70vh] min-w-64 overflow-auto p-3.5 text-[13px]"
          sideOffset={6}
          align="start"
          collisionPadding={12}
        >
          <h2 className="mb-2 text-xs font-[650] text-ink-2">{title}</h2>
          {children}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

// A list to choose one of.
export function Choices<T extends string>({
  items,
  value,
  onChoose,
  name,
}: {
  items: { id: T; name: string; note?: string }[];
  value: T | undefined;
  onChoose: (id: T) => void;
  name: string;
}) {
  return (
    <div role="radiogroup" aria-label={name} className="flex flex-col">
      {items.map((i) => (
        <label key={i.id} className="flex cursor-pointer items-baseline gap-2 rounded-sm px-1.5 py-1 hover:bg-wash">
          <input
            type="radio"
            name={name}
            checked={i.id === value}
            onChange={() => onChoose(i.id)}
            className="accent-juniper"
          />
          <span>{i.name}</span>
          {i.note && <span className="ml-auto pl-4 text-ink-2">{i.note}</span>}
        </label>
      ))}
    </div>
  );
}
