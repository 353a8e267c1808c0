import { useQuery } from "@tanstack/react-query";

type Health = {
  status: "whole" | "impaired";
  parts: Record<string, { works: boolean; what: string }>;
  notices: string[];
};

const WORDS: Record<string, string> = {
  postgres: "the database",
  broker: "the broker",
  keeper: "the keeper",
  web: "this server",
  intake: "intake from the broker",
  engine: "the engine",
  again: "decoding again",
  fleet: "the demo's devices",
};

/** What of Oculum itself does not do its work: nothing on a screen says more than that. */
export function HealthStrip() {
  const health = useQuery({
    queryKey: ["healthz"],
    queryFn: async ({ signal }) => {
      const answer = await fetch("/healthz", { signal });
      return (await answer.json()) as Health;
    },
    refetchInterval: 15_000,
    retry: false,
  });
  const bad = Object.entries(health.data?.parts ?? {}).filter(([, part]) => !part.works && part.what !== "starting");
  const notices = health.data?.notices ?? [];
  if (!bad.length && !notices.length) return null;
  return (
    <div role="status" className="mb-3 border-l-3 border-ink bg-raised px-3 py-1.5">
      {bad.length > 0 && (
        <p>
          <b>Not all of Oculum works.</b>{" "}
          {bad.map(([name, part]) => `${WORDS[name] ?? name}: ${part.what || "does not answer"}`).join("; ")}. It is
          started again by itself; what senders were told to be taken is safe.
        </p>
      )}
      {notices.map((notice) => (
        <p key={notice}>
          <b>Mind:</b> {notice}
        </p>
      ))}
    </div>
  );
}
