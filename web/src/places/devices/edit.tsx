import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, got, type Schemas } from "../../api/client";
import { Heading, NameField, TextField, Trouble, Waiting } from "../../parts/basics";
import { useGoOn } from "../../parts/go-on";
import { useKept } from "../../parts/lookback-state";
import { useMay } from "../../parts/me";
import { Sure } from "../../parts/sure";
import { wrongName } from "../../parts/written";
import { Changes } from "./changes";
import { DeviceForm, type DeviceDraft } from "./form";
import { holdKey, putAway, useHeldKey } from "./held-keys";
import { KeyShown } from "./key-box";
import { PhotoForm } from "./photo";
import { ofForm } from "./queries";

/** Changing a device: what it is called, where it is, through what it talks, whether it is in service. */
export default function EditDevice() {
  const { name = "" } = useParams();
  const kept = useKept();
  const client = useQueryClient();
  const goOn = useGoOn();
  const engineer = useMay("engineer");
  const device = useQuery(ofForm(name));
  const fresh = () =>
    client.invalidateQueries({
      predicate: (q) => ["device", "devices", "overview", "changes"].includes(String(q.queryKey[0])),
    });
  const save = useMutation({
    mutationFn: ({ draft, over }: { draft: DeviceDraft; over: number }) =>
      got(
        api.PATCH("/api/v1/devices/{name}", {
          params: { path: { name }, header: { "If-Match": `"${over}"` } },
          body: draft,
        }),
      ),
    onSuccess: () => void fresh(),
  });
  const drop = useMutation({
    mutationFn: () => got(api.DELETE("/api/v1/devices/{name}", { params: { path: { name } } })),
    onSuccess: () => void fresh(),
  });
  if (device.isPending) return <Waiting what="the device" />;
  if (!device.data) return <Trouble error={device.error} />;
  const d = device.data;
  return (
    <>
      <Heading title={`Change ${d.title}`} about={<>known to programs as {d.name}, which stays</>}>
        <Link className="button" to={kept(`/devices/${name}`)}>
          Back to the device
        </Link>
      </Heading>
      {!engineer && <p className="mb-3">Engineers change devices; you can look.</p>}
      <fieldset disabled={!engineer}>
        <DeviceForm
          key={d.name}
          device={d}
          submit="Save the changes"
          pending={save.isPending}
          onSubmit={(draft, over) => save.mutate({ draft, over }, { onSuccess: goOn(() => kept(`/devices/${name}`)) })}
          refused={{
            error: save.error,
            now: () => got(api.GET("/api/v1/devices/{name}", { params: { path: { name } } })),
            again: () => {
              save.reset();
              void device.refetch();
            },
          }}
        />
      </fieldset>
      <Trouble error={save.error} />
      {engineer && (
        <>
          <PhotoForm device={d} done={() => void device.refetch()} />
          {d.phase !== "retired" && <Successor device={d} fresh={fresh} />}
          <section className="mt-6 max-w-3xl">
            <h2 className="mb-1">
              Delete{" "}
              <span>· only a device that never sent anything; others are retired above, and their data stays</span>
            </h2>
            <Sure
              disabled={drop.isPending}
              act={() => drop.mutate(undefined, { onSuccess: goOn(() => kept("/devices")) })}
            >
              {`Delete ${d.title}`}
            </Sure>
            <Trouble error={drop.error} />
          </section>
          <Changes about={d.name} />
        </>
      )}
    </>
  );
}

/** Another unit in the device's place. */
function Successor({ device: d, fresh }: { device: Schemas["DeviceOut"]; fresh: () => unknown }) {
  const kept = useKept();
  const [name, setName] = useState("");
  const [title, setTitle] = useState("");
  const replace = useMutation({
    mutationFn: async () => {
      const path = { name: d.name };
      const made = await got(
        api.POST("/api/v1/devices/{name}/successor", { params: { path }, body: { name, ...(title ? { title } : {}) } }),
      );
      const key = await got(api.POST("/api/v1/devices/{name}/key", { params: { path: { name: made.name } } }));
      holdKey(made.name, key);
      return made;
    },
    onSuccess: fresh,
  });
  const held = useHeldKey(replace.data?.name);
  return (
    <section className="mt-6 max-w-3xl" aria-label="Another unit in its place">
      <h2 className="mb-1">
        Another unit in its place{" "}
        <span>· takes over title, site, gateway, labels, position, own limits and constants; this one retires</span>
      </h2>
      {replace.data ? (
        <>
          {held && <KeyShown made={held} dismiss={() => putAway(replace.data.name)} />}
          <Link className="button mt-2" to={kept(`/devices/${replace.data.name}`)}>
            Open {replace.data.title}
          </Link>
        </>
      ) : (
        <form
          noValidate
          className="grid items-start gap-3 sm:grid-cols-[1fr_1fr_auto]"
          onSubmit={(e) => {
            e.preventDefault();
            if (name && !wrongName(name, "-")) replace.mutate();
          }}
        >
          <NameField label="name of the new unit" joint="-" value={name} change={setName} />
          <TextField
            label="title"
            value={title}
            placeholder={d.title}
            maxLength={120}
            onChange={(e) => setTitle(e.target.value)}
          />
          <button className="button mt-[19px]" disabled={!name || Boolean(wrongName(name, "-")) || replace.isPending}>
            Replace, and make its key
          </button>
        </form>
      )}
      <Trouble error={replace.error} />
    </section>
  );
}
