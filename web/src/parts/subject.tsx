import { Link } from "react-router";

import { useKept } from "./lookback-state";

/** What an alarm is on: a device, to be opened, or a site. */
export function Subject({ device, title, look = "" }: { device: string | null; title: string; look?: string }) {
  const kept = useKept();
  if (device === null) return <span className={look}>site {title}</span>;
  return (
    <Link className={`hover:underline ${look}`} to={kept(`/devices/${device}`)}>
      {title}
    </Link>
  );
}
