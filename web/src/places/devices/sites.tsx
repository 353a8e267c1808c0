import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useParams } from "react-router";
import { api, got, type Schemas } from "../../api/client";
import { ofSites } from "../../api/queries";
import { Choose, Empty, Heading, NameField, TextField, Trouble, Waiting } from "../../parts/basics";
import { Conflict } from "../../parts/conflict";
import { useFilled } from "../../parts/filled";
import { useGoOn } from "../../parts/go-on";
import { look } from "../../parts/look";
import { useKept, useLookback } from "../../parts/lookback-state";
import { useMay } from "../../parts/me";
import { Sure } from "../../parts/sure";
import { ownZone, zoneWord } from "../../parts/time";
import { wrongName } from "../../parts/written";
import { Changes } from "./changes";
import { PositionFields, positionIn } from "./position";
import { DRAGGED, SiteStanding, useMove } from "./site-standing";

type Site = Schemas["SiteOut"];

/** Sites in the order of their tree, each with its depth. */
export function asTree(sites: Site[]): { site: Site; depth: number }[] {
  const known = new Set(sites.map((s) => s.name));
  const under = (parent: string | null, depth: number): { site: Site; depth: number }[] =>
    depth > 16
      ? []
      : sites
          .filter((s) => (s.parent && known.has(s.parent) ? s.parent : null) === parent)
          .sort((a, b) => a.title.localeCompare(b.title))
          .flatMap((site) => [{ site, depth }, ...under(site.name, depth + 1)]);
  return under(null, 0);
}

export default function Sites() {
  const { name } = useParams();
  const kept = useKept();
  const lookback = useLookback();
  const engineer = useMay("engineer") && lookback.live;
  const sites = useQuery(ofSites(lookback));
  const move = useMove();
  const [over, setOver] = useState("");
  if (sites.isPending) return <Waiting what="the sites" />;
  if (!sites.data) return <Trouble error={sites.error} />;
  const all = asTree(sites.data.results);
  const chosen = name === "new" ? null : (all.find((s) => s.site.name === name)?.site ?? all[0]?.site);
  return (
    <>
      <Heading title="Sites" about="Where devices are, as a tree; a site's clock is that of its calendar">
        {engineer && (
          <Link className="button strong" to={kept("/devices/sites/new")}>
            Add a site
          </Link>
        )}
      </Heading>
      <div className="grid gap-8 lg:grid-cols-[260px_1fr]">
        <ul className="rows self-start">
          {all.map(({ site, depth }) => (
            <li key={site.name}>
              <Link
                to={kept(`/devices/sites/${site.name}`)}
                className={look(
                  "row-line flex items-center pr-2.5",
                  chosen?.name === site.name ? "is-selected" : "",
                  over === site.name ? "outline-2 outline-ink" : "",
                )}
                onDragOver={(e) => {
                  if (!engineer || !e.dataTransfer.types.includes(DRAGGED)) return;
                  e.preventDefault();
                  setOver(site.name);
                }}
                onDragLeave={() => setOver("")}
                onDrop={(e) => {
                  e.preventDefault();
                  setOver("");
                  const told = JSON.parse(e.dataTransfer.getData(DRAGGED)) as { devices: string[]; from: string };
                  if (told.from !== site.name) move.mutate({ ...told, site: site.name });
                }}
                style={{ paddingLeft: 10 + depth * 16 }}
              >
                <span className="font-semibold">{site.title}</span>
                <span className="ml-auto text-second">{site.devices}</span>
              </Link>
            </li>
          ))}
          {all.length === 0 && <Empty title="No site yet.">Add one: a place where devices are.</Empty>}
        </ul>
        <div className="min-w-0">
          {chosen && (
            <SiteStanding
              key={chosen.name}
              site={chosen}
              sites={all.map(({ site }): [string, string] => [site.name, site.title])}
              editable={engineer}
              move={move}
            />
          )}
          {(chosen || name === "new" || all.length === 0) && (
            <SiteForm key={chosen?.name ?? "new"} site={chosen ?? null} all={sites.data.results} editable={engineer} />
          )}
        </div>
      </div>
    </>
  );
}

function SiteForm({ site, all, editable }: { site: Site | null; all: Site[]; editable: boolean }) {
  const client = useQueryClient();
  const goOn = useGoOn();
  const kept = useKept();
  const {
    draft: f,
    setDraft: setF,
    fill,
    changed,
    over,
    keepOver,
  } = useFilled(site, (from) => ({
    name: from?.name ?? "",
    title: from?.title ?? "",
    parent: from?.parent ?? "",
    zone: from?.zone ?? all[0]?.zone ?? ownZone(),
    caretaker: from?.caretaker ?? "",
    attended: from?.attended ?? "",
    latitude: String(from?.latitude ?? ""),
    longitude: String(from?.longitude ?? ""),
  }));
  const put = (key: keyof typeof f) => (e: { target: { value: string } }) => setF({ ...f, [key]: e.target.value });
  const { latitude, longitude } = positionIn(f);
  const body = {
    title: f.title.trim() || f.name,
    parent: f.parent || null,
    zone: f.zone,
    caretaker: f.caretaker,
    attended: f.attended,
    latitude: latitude.value ?? null,
    longitude: longitude.value ?? null,
  };
  const wrong = Boolean(wrongName(f.name, "-") || latitude.problem || longitude.problem);
  // Not waited for: once the list has come, the form of a site that is gone is not there to go on from.
  const again = () =>
    void client.invalidateQueries({
      predicate: (q) => ["sites", "devices", "device", "changes"].includes(String(q.queryKey[0])),
    });
  const save = useMutation({
    mutationFn: () =>
      site
        ? got(
            api.PATCH("/api/v1/sites/{name}", {
              params: { path: { name: site.name }, header: { "If-Match": `"${over}"` } },
              body,
            }),
          )
        : got(api.POST("/api/v1/sites", { body: { name: f.name, ...body } })),
    onSuccess: (saved) => {
      if (site) fill(saved);
      again();
    },
  });
  const drop = useMutation({
    mutationFn: () => got(api.DELETE("/api/v1/sites/{name}", { params: { path: { name: site!.name } } })),
    onSuccess: again,
  });
  const zones = useMemo(() => {
    const used = [f.zone, ...all.map((s) => s.zone ?? "UTC"), ownZone(), "UTC"];
    return [...new Set([...used, ...Intl.supportedValuesOf("timeZone")])].map((z): [string, string] => [z, named(z)]);
  }, [f.zone, all]);
  return (
    <form
      noValidate
      onSubmit={(e) => {
        e.preventDefault();
        const open = goOn((saved: Site) => kept(`/devices/sites/${saved.name}`));
        if (!wrong && f.name) save.mutate(undefined, { onSuccess: open });
      }}
    >
      <fieldset disabled={!editable} className="grid max-w-3xl gap-3 sm:grid-cols-2">
        {site ? null : (
          <NameField
            label="name"
            joint="-"
            value={f.name}
            change={(name) => setF({ ...f, name })}
            note="stands in links: north-quay"
          />
        )}
        <TextField
          label="title"
          value={f.title}
          maxLength={120}
          placeholder={f.name}
          onChange={put("title")}
          note="as people call it"
        />
        <Choose
          label="lies in"
          value={f.parent}
          onChange={put("parent")}
          empty="nothing: it is at the top"
          options={all.filter((s) => s.name !== site?.name).map((s) => [s.name, s.title])}
        />
        <TextField
          label="looked after by"
          value={f.caretaker}
          maxLength={200}
          onChange={put("caretaker")}
          note="who, and how they are reached; stands beside alarms"
        />
        <TextField
          label="somebody is there"
          value={f.attended}
          maxLength={120}
          onChange={put("attended")}
          note="in words: 07:00 to 15:00, not on Sundays"
        />
        <PositionFields written={f} put={put} problems={{ latitude: latitude.problem, longitude: longitude.problem }} />
        <Choose label="its clock" value={f.zone} onChange={put("zone")} options={zones} />
        <div className="flex flex-wrap items-center gap-3 sm:col-span-2">
          {editable && (
            <button className="button strong" disabled={save.isPending || wrong || !f.name}>
              {site ? "Save the site" : "Add the site"}
            </button>
          )}
          {site?.own_device && (
            <Link className="button" to={kept(`/devices/${site.own_device}`)}>
              Its own readings
            </Link>
          )}
          {site && (
            <Link className="button" to={kept("/devices", { site: site.name })}>
              Its devices
            </Link>
          )}
          {editable && site && !site.devices && (
            <Sure act={() => drop.mutate(undefined, { onSuccess: goOn(() => kept("/devices/sites")) })}>
              Delete the site
            </Sure>
          )}
          <span role="status">{site && (changed ? "Not saved yet." : save.isSuccess ? "Saved." : "")}</span>
        </div>
      </fieldset>
      <Trouble error={save.error ?? drop.error} />
      <Conflict
        error={save.error}
        now={() => got(api.GET("/api/v1/sites/{name}", { params: { path: { name: f.name } } }))}
        take={(standing) => {
          fill(standing);
          save.reset();
          again();
        }}
        keep={(standing) => {
          keepOver(standing);
          save.reset();
        }}
      />
      {site && <Changes about={site.name} />}
    </form>
  );
}

/** A zone as people know it: by its distance from UTC, and by its place where it has one. */
const named = (zone: string) =>
  zone.startsWith("Etc/") || zone === "UTC"
    ? zoneWord(new Date(), zone)
    : `${zone.replaceAll("_", " ")}, ${zoneWord(new Date(), zone)}`;
