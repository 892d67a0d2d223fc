// A link that lets files be chosen from the machine.
import { useId } from "react";

export function PickFiles({ label, onFiles }: { label: string; onFiles: (f: File[]) => void }) {
  const id = useId();
  return (
    <label className="link cursor-pointer focus-within:outline-2 focus-within:outline-juniper" htmlFor={id}>
      {label}
      <input
        id={id}
        type="file"
        multiple
        className="sr-only"
        onChange={(e) => {
          onFiles([...(e.target.files ?? [])]);
          e.target.value = "";
        }}
      />
    </label>
  );
}
