import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useRef } from "react";
import { put, type Schemas } from "../../api/client";
import { Trouble } from "../../parts/basics";

const LONGEST = 1600; // px: enough to find the thing in the field, and some hundred kilobytes

/** Where a device's photo stands; it is another address when the photo is another one. */
const address = (d: Schemas["DeviceOut"]) =>
  `/api/v1/devices/${encodeURIComponent(d.name)}/photo?at=${encodeURIComponent(d.photo_at ?? "")}`;

export const Photo = ({ device: d }: { device: Schemas["DeviceOut"] }) =>
  d.photo_at ? (
    <a href={address(d)} target="_blank" rel="noreferrer" className="mt-5 block max-w-[380px] border border-line">
      <img src={address(d)} alt={`${d.title}, as it looks where it is`} className="max-h-64 w-full object-cover" />
    </a>
  ) : null;

/** A picture of at most LONGEST px a side, as JPEG; what no browser can read is sent as it is, and refused in words. */
async function smaller(file: File): Promise<Blob> {
  try {
    const image = await createImageBitmap(file);
    const scale = Math.min(1, LONGEST / Math.max(image.width, image.height));
    const canvas = document.createElement("canvas");
    canvas.width = Math.round(image.width * scale);
    canvas.height = Math.round(image.height * scale);
    canvas.getContext("2d")?.drawImage(image, 0, 0, canvas.width, canvas.height);
    const made = await new Promise<Blob | null>((resolve) => canvas.toBlob(resolve, "image/jpeg", 0.85));
    return made ?? file;
  } catch {
    return file;
  }
}

/** Sets or removes a device's photo. */
export function PhotoForm({ device: d, done }: { device: Schemas["DeviceOut"]; done: () => unknown }) {
  const client = useQueryClient();
  const input = useRef<HTMLInputElement>(null);
  const change = useMutation({
    mutationFn: async (file: File | null) => put(address(d), file && (await smaller(file))),
    onSuccess: async () => {
      if (input.current) input.current.value = "";
      await client.invalidateQueries({ queryKey: ["device", d.name] });
      done();
    },
  });
  return (
    <section className="mt-6 max-w-3xl" aria-label="Photo">
      <h2 className="mb-1">
        Photo <span>· how to find it in the field: JPEG, PNG or WebP</span>
      </h2>
      <Photo device={d} />
      <div className="mt-2 flex flex-wrap items-center gap-3">
        <input
          ref={input}
          type="file"
          accept="image/jpeg,image/png,image/webp"
          aria-label="Photo"
          disabled={change.isPending}
          onChange={(e) => e.target.files?.[0] && change.mutate(e.target.files[0])}
        />
        {d.photo_at && (
          <button type="button" className="button" disabled={change.isPending} onClick={() => change.mutate(null)}>
            Remove the photo
          </button>
        )}
        <span role="status">{change.isPending ? "Sending it …" : change.isSuccess ? "Saved." : ""}</span>
      </div>
      <Trouble error={change.error} />
    </section>
  );
}
