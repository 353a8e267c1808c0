import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../../api/client";
import { Choose, TextField } from "../../parts/basics";

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
};

/** What a device's registration asks for; used for adding and for adopting. */
export function DeviceForm({
  submit,
  pending,
  onSubmit,
  name: given = "",
}: {
  submit: string;
  pending: boolean;
  onSubmit: (draft: DeviceDraft) => void;
  name?: string;
}) {
  const types = useQuery({ queryKey: ["types"], queryFn: () => got(api.GET("/api/v1/types")) });
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => got(api.GET("/api/v1/sites")) });
  const gateways = useQuery({
    queryKey: ["devices", "gateways"],
    queryFn: async () => {
      const keys = (await got(api.GET("/api/v1/types"))).results.filter((t) => t.is_gateway).map((t) => t.key);
      const pages = await Promise.all(
        keys.map((type) => got(api.GET("/api/v1/devices", { params: { query: { type, order: "name", limit: 500 } } }))),
      );
      return pages.flatMap((p) => p.results);
    },
  });
  const [f, setF] = useState({
    name: given.toLowerCase().replace(/[^a-z0-9-]/g, "-"),
    title: "",
    type: "",
    site: "",
    gateway: "",
    labels: "",
    latitude: "",
    longitude: "",
    cadence: "",
  });
  const put = (key: keyof typeof f) => (e: { target: { value: string } }) => setF({ ...f, [key]: e.target.value });
  const number = (text: string) => (text.trim() === "" ? null : Number(text));
  const words = f.labels.split(/[,\s]+/).filter(Boolean);
  const odd = words.find((word) => !/^[^=]+=./.test(word));
  const type = f.type || types.data?.results[0]?.key || "";
  return (
    <form
      className="grid max-w-3xl gap-3 sm:grid-cols-2"
      onSubmit={(e) => {
        e.preventDefault();
        const labels = Object.fromEntries(
          words.map((word) => [word.slice(0, word.indexOf("=")), word.slice(word.indexOf("=") + 1)]),
        );
        onSubmit({
          name: f.name,
          title: f.title || f.name,
          type,
          site: f.site || null,
          gateway: f.gateway || null,
          labels,
          latitude: number(f.latitude),
          longitude: number(f.longitude),
          cadence_s: number(f.cadence),
        });
      }}
    >
      <TextField
        label="name"
        required
        pattern="[a-z][a-z0-9\-]{1,62}"
        value={f.name}
        onChange={put("name")}
        note="as the device gives it: letters a-z, digits, hyphens"
      />
      <TextField label="title" value={f.title} onChange={put("title")} placeholder={f.name} note="as people call it" />
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
        options={(gateways.data ?? []).map((g) => [g.name, g.title])}
      />
      <TextField
        label="labels"
        value={f.labels}
        onChange={put("labels")}
        placeholder="stage=growing row=2"
        aria-invalid={Boolean(odd)}
        note={odd ? `\`${odd}\` is no label: write name=value` : undefined}
      />
      <TextField
        label="latitude"
        type="number"
        step="any"
        min={-90}
        max={90}
        value={f.latitude}
        onChange={put("latitude")}
        note="degrees, WGS 84"
      />
      <TextField
        label="longitude"
        type="number"
        step="any"
        min={-180}
        max={180}
        value={f.longitude}
        onChange={put("longitude")}
        note="degrees, WGS 84"
      />
      <TextField
        label="reports every"
        type="number"
        min={1}
        value={f.cadence}
        onChange={put("cadence")}
        note="seconds; empty: as its type does"
      />
      <div className="self-start pt-5">
        <button className="button strong" disabled={pending || !f.name || !type || Boolean(odd)}>
          {pending ? "Working …" : submit}
        </button>
      </div>
    </form>
  );
}
