import { useState, type ButtonHTMLAttributes } from "react";

/** A button for what cannot be taken back: it acts when pressed twice, and forgets the first press when it is left. */
export function Sure({
  children,
  act,
  sure = true,
  ...rest
}: Omit<ButtonHTMLAttributes<HTMLButtonElement>, "onClick" | "onBlur" | "type" | "children"> & {
  children: string;
  act: () => void;
  /** Whether it is to be asked at all. */
  sure?: boolean;
}) {
  const [pressed, press] = useState(false);
  return (
    <button
      type="button"
      className="button"
      onBlur={() => press(false)}
      onClick={() => {
        if (sure && !pressed) return press(true);
        press(false);
        act();
      }}
      {...rest}
    >
      {pressed ? `${children}: press again` : children}
    </button>
  );
}
