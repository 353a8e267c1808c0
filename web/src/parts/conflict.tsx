import { Refusal } from "../api/client";

/** What one may do when somebody else saved first: take what stands there now, or keep one's own text over it. */
export function Conflict<Kept>({
  error,
  now,
  take,
  keep,
}: {
  error: unknown;
  now: () => Promise<Kept>;
  take: (standing: Kept) => void;
  keep: (standing: Kept) => void;
}) {
  if (!(error instanceof Refusal && error.status === 412)) return null;
  return (
    <p className="flex gap-3">
      <button type="button" className="button" onClick={() => void now().then(take)}>
        Take theirs
      </button>
      <button type="button" className="button" onClick={() => void now().then(keep)}>
        Keep mine
      </button>
    </p>
  );
}
