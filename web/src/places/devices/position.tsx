import { TextField } from "../../parts/basics";
import { amount } from "../../parts/written";

type Angles<T> = { latitude: T; longitude: T };
const ANGLES = ["latitude", "longitude"] as const;

/** A position as it is written into two fields, read: degrees, WGS 84; empty is none. */
export const positionIn = (written: Angles<string>) => ({
  latitude: amount(written.latitude, -90, 90),
  longitude: amount(written.longitude, -180, 180),
});

/** The two fields of a position. `problems`: what is wrong with each of them. */
export function PositionFields({
  written,
  put,
  problems,
}: {
  written: Angles<string>;
  put: (key: keyof Angles<string>) => (e: { target: { value: string } }) => void;
  problems: Angles<string | undefined>;
}) {
  return ANGLES.map((angle) => (
    <TextField
      key={angle}
      label={angle}
      inputMode="decimal"
      value={written[angle]}
      onChange={put(angle)}
      note="degrees, WGS 84"
      problem={problems[angle]}
    />
  ));
}
