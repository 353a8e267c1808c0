import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got } from "../../api/client";
import { ofTypes } from "../../api/queries";
import { Heading, Trouble } from "../../parts/basics";
import { useKept } from "../../parts/lookback-state";
import { DeviceForm, type DeviceDraft } from "./form";
import { holdKey, putAway, useHeldKey } from "./held-keys";
import { KeyShown } from "./key-box";

export default function AddDevice() {
  const kept = useKept();
  const client = useQueryClient();
  const [added, setAdded] = useState<string | null>(null);
  const types = useQuery(ofTypes());
  const add = useMutation({
    mutationFn: async (draft: DeviceDraft) => {
      const device = await got(api.POST("/api/v1/devices", { body: draft }));
      const made = await got(api.POST("/api/v1/devices/{name}/key", { params: { path: { name: device.name } } }));
      holdKey(device.name, made);
      setAdded(device.name);
      return made;
    },
    onSuccess: () => client.invalidateQueries({ queryKey: ["devices"] }),
  });
  const held = useHeldKey(added);
  if (added)
    return (
      <>
        <Heading title={`${added} is registered`} about="Send it a first message, and watch it arrive." />
        <div className="max-w-3xl">
          {held && <KeyShown made={held} dismiss={() => putAway(added)} />}
          <p className="mt-4 flex gap-3">
            <Link className="button strong" to={kept("/arrivals", { device: added })}>
              Watch its arrivals
            </Link>
            <Link className="button" to={kept(`/devices/${added}`)}>
              Open the device
            </Link>
          </p>
        </div>
      </>
    );
  return (
    <>
      <Heading title="Add a device" about="What it is, where it sits, how it is called. Its key comes next." />
      {types.data?.results.length === 0 && (
        <p className="mb-4 border-l-3 border-line pl-3">
          There is no device type yet.{" "}
          <Link className="link" to={kept("/devices/types")}>
            Make one first
          </Link>
          : it says what all units of one make share.
        </p>
      )}
      <DeviceForm submit="Add and give it a key" pending={add.isPending} onSubmit={(draft) => add.mutate(draft)} />
      <Trouble error={add.error} />
    </>
  );
}
