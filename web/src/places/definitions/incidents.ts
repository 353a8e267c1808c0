import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, got, type Schemas } from "../../api/client";
import { ofIncidents } from "./queries";

export type Incident = Schemas["IncidentOut"];

/** What people marked in the past of a condition as real, or as not; marking is told to whoever tries a draft. */
export function useIncidents(id: number) {
  const client = useQueryClient();
  const key = ["incidents", id];
  const found = useQuery(ofIncidents(id));
  const after = { onSuccess: () => client.invalidateQueries({ queryKey: key }) };
  const mark = useMutation({
    mutationFn: (body: Schemas["IncidentInRequest"]) =>
      got(api.POST("/api/v1/definitions/{ident}/incidents", { params: { path: { ident: id } }, body })),
    ...after,
  });
  const forget = useMutation({
    mutationFn: (incident: number) =>
      got(
        api.DELETE("/api/v1/definitions/{ident}/incidents/{incident}", { params: { path: { ident: id, incident } } }),
      ),
    ...after,
  });
  const all: Incident[] = found.data?.results ?? [];
  /** The mark on a span of a device; a later one gives way to no other, so that there is at most one. */
  const on = (device: string, from: number, to: number) =>
    all.find((i) => i.device === device && Date.parse(i.begin) <= to && Date.parse(i.end) >= from);
  return { all, on, mark, forget, error: mark.error ?? forget.error ?? found.error };
}
