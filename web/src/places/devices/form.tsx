import { useQuery } from "@tanstack/react-query";
import { type Schemas } from "../../api/client";
import { ofSites, ofTypes } from "../../api/queries";
import { Choose, NameField, TextField } from "../../parts/basics";
import { Conflict } from "../../parts/conflict";
import { useFilled } from "../../parts/filled";
import { duration, labels, properName, writtenDuration, writtenLabels, wrongName } from "../../parts/written";
import { PositionFields, positionIn } from "./position";
import { ofGateways } from "./queries";

export type DeviceDraft = {
  name: string;
  title: string;
  type: string;
  site: string | null;
  gateway: string | null;
  labels: Record<string, string>;
  latitude: number | null;
  longitude: number | null;
  cadence_s: number | null;
  phase: Schemas["PhaseEnum"];
};

const PHASES: [Schemas["PhaseEnum"], string][] = [
  ["commissioning", "commissioning: being set up"],
  ["in service", "in service"],
  ["maintenance", "maintenance: being worked on"],
  ["retired", "retired: its key ends, its data stays"],
];

type Device = Schemas["DeviceOut"];

const written = (device: Device | null, given: string) => ({
  name: device?.name ?? properName(given, "-"),
  title: device?.title ?? "",
  type: device?.type ?? "",
  site: device?.site ?? "",
  gateway: device?.gateway ?? "",
  labels: writtenLabels(device?.labels ?? {}),
  latitude: String(device?.latitude ?? ""),
  longitude: String(device?.longitude ?? ""),
  cadence: writtenDuration(device?.own_cadence_s),
  phase: device?.phase ?? ("in service" as Schemas["PhaseEnum"]),
});

/**
 * What a device's registration says; for adding, adopting and changing. `device`: the one that is changed; `refused`:
 * why it was not, `now` what stands there, and `again` forgets it. It is saved over the revision that it was filled
 * from.
 */
export function DeviceForm({
  submit,
  pending,
  onSubmit,
  name: given = "",
  device,
  refused,
}: {
  submit: string;
  pending: boolean;
  onSubmit: (draft: DeviceDraft, over: number) => void;
  name?: string;
  device?: Device;
  refused?: { error: unknown; now: () => Promise<Device>; again: () => void };
}) {
  const types = useQuery(ofTypes());
  const sites = useQuery(ofSites());
  const gateways = useQuery(ofGateways());
  const {
    draft: f,
    setDraft: setF,
    fill,
    changed,
    over,
    keepOver,
  } = useFilled(device ?? null, (from) => written(from, given));
  const put = (key: keyof typeof f) => (e: { target: { value: string } }) => setF({ ...f, [key]: e.target.value });
  const read = {
    labels: labels(f.labels),
    ...positionIn(f),
    cadence: duration(f.cadence),
  };
  const half = (read.latitude.value === null) !== (read.longitude.value === null);
  const lacks = (written: string) => (half && written === "" ? "a position has both" : undefined);
  const unreadable = half || wrongName(f.name, "-") || Object.values(read).some((r) => r.problem);
  const type = f.type || types.data?.results[0]?.key || "";
  const chosen = types.data?.results.find((t) => t.key === type);
  return (
    <form
      noValidate
      className="grid max-w-3xl gap-3 sm:grid-cols-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (unreadable || !f.name || !type) return;
        const draft = {
          name: f.name,
          title: f.title.trim() || f.name,
          type,
          site: f.site || null,
          gateway: f.gateway || null,
          labels: read.labels.value ?? {},
          latitude: read.latitude.value ?? null,
          longitude: read.longitude.value ?? null,
          cadence_s: read.cadence.value ?? null,
          phase: f.phase,
        };
        onSubmit(draft, over);
      }}
    >
      {!device && (
        <NameField
          label="name"
          joint="-"
          value={f.name}
          change={(name) => setF({ ...f, name })}
          note="as the device gives it: cold-room-1"
        />
      )}
      <TextField
        label="title"
        maxLength={120}
        value={f.title}
        onChange={put("title")}
        placeholder={f.name}
        note="as people call it"
      />
      <Choose
        label="device type"
        value={type}
        onChange={put("type")}
        options={(types.data?.results ?? []).map((t) => [t.key, t.title])}
      />
      <Choose
        label="site"
        value={f.site}
        onChange={put("site")}
        empty="none"
        options={(sites.data?.results ?? []).map((s) => [s.name, s.title])}
      />
      <Choose
        label="gateway it talks through"
        value={f.gateway}
        onChange={put("gateway")}
        empty="none: it talks for itself"
        options={(gateways.data ?? []).filter((g) => g.name !== device?.name).map((g) => [g.name, g.title])}
      />
      <TextField
        label="labels"
        value={f.labels}
        onChange={put("labels")}
        placeholder="stage=growing row=2"
        problem={read.labels.problem}
      />
      <PositionFields
        written={f}
        put={put}
        problems={{
          latitude: read.latitude.problem ?? lacks(f.latitude),
          longitude: read.longitude.problem ?? lacks(f.longitude),
        }}
      />
      <TextField
        label="reports every"
        value={f.cadence}
        onChange={put("cadence")}
        placeholder={writtenDuration(chosen?.cadence_s)}
        note={chosen?.cadence_s ? `empty: every ${writtenDuration(chosen.cadence_s)}, as its type` : "such as 5 min"}
        problem={read.cadence.problem}
      />
      {device && <Choose label="service state" value={f.phase} onChange={put("phase")} options={PHASES} />}
      <div className="flex items-center gap-3 self-start pt-5">
        <button className="button strong" disabled={pending || !f.name || !type || Boolean(unreadable)}>
          {pending ? "Working …" : submit}
        </button>
        <span role="status">{device && changed && "Not saved yet."}</span>
      </div>
      {refused && (
        <Conflict
          error={refused.error}
          now={refused.now}
          take={(standing) => {
            fill(standing);
            refused.again();
          }}
          keep={(standing) => {
            keepOver(standing);
            refused.again();
          }}
        />
      )}
    </form>
  );
}
