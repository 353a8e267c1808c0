import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, type Schemas } from "../../api/client";
import { ofSites } from "../../api/queries";
import { At, Choose, Empty, TextField, Trouble } from "../../parts/basics";
import { DialogTitle, FormBox, Sheet } from "../../parts/dialog";
import { useKeys } from "../../parts/keys";
import { look } from "../../parts/look";
import { useKept } from "../../parts/lookback-state";
import { Key } from "../../parts/marks";
import { useMay } from "../../parts/me";
import { Pages } from "../../parts/pages";
import { counted } from "../../parts/words";
import { useSettled } from "./draft";
import { ofChosen, ofRuns } from "./queries";
import { ask, type Chosen, parsed, useRollout, written } from "./selection";

/** Which devices have a version first: by label, site and share, with how many that are. */
export function Chooser({ id, chosen, change }: { id: number; chosen: Chosen; change: (next: Chosen) => void }) {
  const sites = useQuery(ofSites());
  const settled = useSettled(chosen, 200);
  const wrong = parsed(chosen.labels) === null;
  const found = useQuery({
    ...ofChosen(id, ask(settled)),
    enabled: parsed(settled.labels) !== null,
    placeholderData: (old) => old,
  });
  return (
    <div className="grid grid-cols-2 gap-3">
      <TextField
        label="labels"
        placeholder="firmware=2"
        value={chosen.labels}
        onChange={(e) => change({ ...chosen, labels: e.target.value })}
        note={wrong ? "write name=value, several with commas" : undefined}
        aria-invalid={wrong}
      />
      <Choose
        label="site, with all below it"
        empty="any site"
        options={(sites.data?.results ?? []).map((s) => [s.name, s.title])}
        value={chosen.site}
        onChange={(e) => change({ ...chosen, site: e.target.value })}
      />
      <TextField
        label="share of them, in %"
        type="number"
        min={1}
        max={100}
        value={chosen.share}
        onChange={(e) => change({ ...chosen, share: e.target.value })}
      />
      <p className="self-end text-[12.5px]" role="status">
        {found.data && !wrong && (
          <>
            <b>
              {found.data.devices} of {counted(found.data.of, "device")}
            </b>
            {found.data.devices > 0 && (
              <span className="text-second">
                : {found.data.names.slice(0, 3).join(", ")}
                {found.data.devices > 3 && " …"}
              </span>
            )}
          </>
        )}
      </p>
    </div>
  );
}

/** A rollout under way: how it does beside the version that the others have, and the next step. */
export function RolloutStrip({
  id,
  of,
  compare,
  busy = false,
}: {
  id: number;
  of: "decoder" | "condition";
  /** Holds both versions against stored messages; a condition's trial does so by itself. */
  compare?: (text: string) => void;
  busy?: boolean;
}) {
  const client = useQueryClient();
  const engineer = useMay("engineer");
  const kept = useKept();
  const found = useRollout(id);
  const done = { onSuccess: () => client.invalidateQueries() };
  const path = { path: { ident: id } };
  const withdraw = useMutation({
    mutationFn: () => got(api.DELETE("/api/v1/definitions/{ident}/rollout", { params: path })),
    ...done,
  });
  const all = useMutation({
    mutationFn: (number: number) =>
      got(api.POST("/api/v1/definitions/{ident}/in-force", { params: path, body: { number, why: "" } })),
    ...done,
  });
  const r = found.data;
  useKeys({ "Alt+z": () => !withdraw.isPending && withdraw.mutate() }, engineer && Boolean(r?.number));
  if (!r?.number || !r.chosen || !r.others) return null;
  const words = [
    ...written(r.labels),
    ...(r.site_title ? [`at ${r.site_title}`] : []),
    ...(r.share < 100 ? [`${r.share} % of them`] : []),
  ];
  const number = r.number;
  const everybody = of === "decoder" ? "all but those held" : "all";
  return (
    <section aria-label="Rollout" className="mb-2 border border-line bg-raised px-4 py-1.5">
      <div className="flex flex-wrap items-center gap-x-8 gap-y-1">
        <div className="min-w-0 text-[12.5px] text-second">
          <h2>
            Rollout{" "}
            <span>
              · {words.length ? words.join(", ") : everybody}, since <At at={r.began_at} />
              {r.who && `, by ${r.who}`}
              {r.held > 0 && ` · ${counted(r.held, "device")} held`}
            </span>
          </h2>
          {[r.chosen, r.others].map((side, i) => (
            <p key={i} className={`border-l-3 pl-2 ${i === 0 ? "border-ink" : "border-line"}`}>
              <span className="text-ink">
                <b>version {side.version ?? "none"}</b> on <b>{counted(side.devices, "device")}</b>
              </span>
              : {counted(side.messages, "message")} since,{" "}
              {of === "condition"
                ? side.raised === 0
                  ? "nothing raised"
                  : `${counted(side.raised, "alarm")} raised`
                : side.refused === 0
                  ? "none refused"
                  : `${side.refused.toLocaleString("en")} refused`}
              {of === "decoder" && side.refused > 0 && i === 0 && (
                <>
                  {" "}
                  <Link className="link" to={kept(`/decoders/${id}`, { outcome: "refused" })}>
                    see them
                  </Link>
                </>
              )}
            </p>
          ))}
        </div>
        {engineer && (
          <div className="ml-auto flex flex-wrap gap-2">
            {compare && (
              <button type="button" className="button small" disabled={busy} onClick={() => compare(r.text ?? "")}>
                Compare on stored messages
              </button>
            )}
            <Widen id={id} rollout={r} />
            <button
              type="button"
              className="button small"
              disabled={withdraw.isPending}
              onClick={() => withdraw.mutate()}
            >
              Withdraw <Key>Alt Z</Key>
            </button>
            <button
              type="button"
              className="button small strong"
              disabled={all.isPending}
              onClick={() => all.mutate(number)}
            >
              Give version {number} to all
            </button>
          </div>
        )}
      </div>
      <Trouble error={withdraw.error ?? all.error} />
    </section>
  );
}

function Widen({ id, rollout }: { id: number; rollout: Schemas["RolloutOut"] }) {
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const [chosen, setChosen] = useState<Chosen>({ labels: "", site: "", share: "100" });
  const change = useMutation({
    mutationFn: () =>
      got(
        api.PUT("/api/v1/definitions/{ident}/rollout", {
          params: { path: { ident: id } },
          body: { number: rollout.number ?? 1, ...ask(chosen) },
        }),
      ),
    onSuccess: async () => {
      setOpen(false);
      await client.invalidateQueries();
    },
  });
  return (
    <Dialog.Root
      open={open}
      onOpenChange={(now) => {
        setOpen(now);
        if (now)
          setChosen({
            labels: written(rollout.labels).join(", "),
            site: rollout.site ?? "",
            share: String(rollout.share),
          });
      }}
    >
      <Dialog.Trigger className="button small">Widen or narrow …</Dialog.Trigger>
      <FormBox title={`Who has version ${rollout.number}`} submit={() => change.mutate()}>
        <Chooser id={id} chosen={chosen} change={setChosen} />
        <p className="text-[12.5px] text-second">A wider share keeps the devices of the smaller one.</p>
        <Trouble error={change.error} />
        <div className="flex gap-2">
          <button className="button strong" disabled={change.isPending || parsed(chosen.labels) === null}>
            Change
          </button>
          <Dialog.Close className="button" type="button">
            Leave it <Key>Esc</Key>
          </Dialog.Close>
        </div>
      </FormBox>
    </Dialog.Root>
  );
}

const PAGE = 50;

/** Which device runs which version, and because of what; devices are held and let go here. */
export function Running({ id, versions }: { id: number; versions: number }) {
  const client = useQueryClient();
  const engineer = useMay("engineer");
  const kept = useKept();
  const [open, setOpen] = useState(false);
  const [words, setWords] = useState("");
  const [because, setBecause] = useState("");
  const [offset, setOffset] = useState(0);
  const q = useSettled(words, 200);
  const list = useQuery({
    ...ofRuns(id, { ...(q ? { q } : {}), ...(because ? { because } : {}), limit: PAGE, offset }),
    enabled: open,
    placeholderData: (old) => old,
  });
  const hold = useMutation({
    mutationFn: ({ device, number }: { device: string; number: number | null }) =>
      number === null
        ? got(api.DELETE("/api/v1/devices/{name}/hold", { params: { path: { name: device } } }))
        : got(
            api.PUT("/api/v1/devices/{name}/hold", { params: { path: { name: device } }, body: { number, why: "" } }),
          ),
    onSuccess: () => client.invalidateQueries(),
  });
  const found = list.data as { count: number; results: Schemas["RunsOut"][] } | undefined;
  const count = found?.count ?? 0;
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="button">Who runs which</Dialog.Trigger>
      <Sheet width="w-[min(620px,100vw)]">
        <DialogTitle>Who runs which version</DialogTitle>
        <div className="mb-2 flex flex-wrap gap-2">
          <input
            className="input !w-52"
            placeholder="name …"
            aria-label="Filter by name"
            value={words}
            onChange={(e) => {
              setWords(e.target.value);
              setOffset(0);
            }}
          />
          <select
            className="input !w-auto"
            aria-label="Because of what"
            value={because}
            onChange={(e) => {
              setBecause(e.target.value);
              setOffset(0);
            }}
          >
            <option value="">all devices</option>
            <option value="chosen">chosen for the rollout</option>
            <option value="held">held on a version</option>
            <option value="in force">with the version in force</option>
          </select>
        </div>
        <Trouble error={list.error ?? hold.error} />
        {found && count === 0 && <Empty title="No such device.">Another word or choice may find some.</Empty>}
        <ul className="rows" aria-label="Devices and their versions">
          {found?.results.map((r) => (
            <li key={r.device} className="row-line flex items-center gap-3">
              <Link className="link w-40 truncate" to={kept(`/devices/${r.device}`)}>
                {r.title}
              </Link>
              <span className="w-36 truncate text-second">{r.site}</span>
              <b>{r.version === null ? "no version" : `version ${r.version}`}</b>
              <span className="truncate text-second">
                {r.because === "held" ? `held${r.why ? `: ${r.why}` : ""}` : r.because}
              </span>
              {engineer && (
                <select
                  className={look(
                    "input ml-auto !h-7 !min-h-7 !w-auto border-transparent py-0 hover:border-edge",
                    "focus:border-edge",
                  )}
                  aria-label={`Hold ${r.title}`}
                  value={r.because === "held" ? String(r.version) : ""}
                  disabled={hold.isPending}
                  onChange={(e) =>
                    hold.mutate({ device: r.device, number: e.target.value ? Number(e.target.value) : null })
                  }
                >
                  <option value="">not held</option>
                  {Array.from({ length: versions }, (_, i) => versions - i).map((n) => (
                    <option key={n} value={n}>
                      hold on {n}
                    </option>
                  ))}
                </select>
              )}
            </li>
          ))}
        </ul>
        <div className="mt-3 flex items-center gap-3">
          <Pages offset={offset} size={PAGE} count={count} go={setOffset} />
          <Dialog.Close className="button ml-auto">
            Close <Key>Esc</Key>
          </Dialog.Close>
        </div>
      </Sheet>
    </Dialog.Root>
  );
}
