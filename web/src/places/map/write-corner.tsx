import { useState } from "react";
import { type Corner, read } from "./shape";

/** A corner by its coordinates, for who draws without a pointer. */
export function WriteCorner({ add }: { add: (at: Corner) => void }) {
  const [text, setText] = useState("");
  const at = read(text);
  return (
    <span className="flex items-center gap-2">
      <input
        className="input !min-h-7 !w-44 font-mono text-[12.5px]"
        aria-label="Another corner: latitude and longitude"
        placeholder="37.43561 −42.61230"
        value={text}
        onChange={(e) => setText(e.target.value)}
        onKeyDown={(e) => {
          if (e.key !== "Enter") return;
          e.preventDefault();
          if (!at) return;
          add(at);
          setText("");
        }}
      />
      <button
        type="button"
        className="button small"
        disabled={!at}
        onClick={() => {
          if (at) add(at);
          setText("");
        }}
      >
        Add
      </button>
    </span>
  );
}
