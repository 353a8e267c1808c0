import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import { Navigate, Route, Routes, useLocation } from "react-router";
import { api, got, Refusal, setCsrf } from "./api/client";
import { useLive } from "./api/live";
import { Empty, Trouble, Waiting } from "./parts/basics";
import { Boundary } from "./parts/boundary";
import { MeContext } from "./parts/me";
import { Shell } from "./parts/shell";
import { setZone } from "./parts/time";
import { FirstPassword } from "./places/password";
import { SignIn } from "./places/sign-in";
import { Devices } from "./places/devices/list";

const Watch = lazy(() => import("./places/watch/watch"));
const Health = lazy(() => import("./places/watch/health"));
const Rhythm = lazy(() => import("./places/watch/rhythm"));
const Curves = lazy(() => import("./places/watch/curves"));
const Compare = lazy(() => import("./places/watch/compare"));
const Device = lazy(() => import("./places/devices/device"));
const AddDevice = lazy(() => import("./places/devices/add"));
const EditDevice = lazy(() => import("./places/devices/edit"));
const Limits = lazy(() => import("./places/devices/limits"));
const Sites = lazy(() => import("./places/devices/sites"));
const Types = lazy(() => import("./places/devices/types"));
const Arrivals = lazy(() => import("./places/arrivals"));
const Definitions = lazy(() => import("./places/definitions/list"));
const DecoderScreen = lazy(() => import("./places/definitions/decoder"));
const Book = lazy(() => import("./places/routes/book"));
const RouteScreen = lazy(() => import("./places/routes/route"));
const Watching = lazy(() => import("./places/routes/try"));
const Tables = lazy(() => import("./places/routes/tables"));
const ConditionScreen = lazy(() => import("./places/definitions/condition"));
const Alarms = lazy(() => import("./places/alarms/alarms"));
const Places = lazy(() => import("./places/map/map"));
const Telling = lazy(() => import("./places/telling/telling"));
const People = lazy(() => import("./places/people"));
const Help = lazy(() => import("./places/help"));
const Archive = lazy(() => import("./places/archive"));
const Storage = lazy(() => import("./places/storage"));
const Settings = lazy(() => import("./places/settings"));

export function App() {
  const me = useQuery({
    queryKey: ["me"],
    queryFn: async () => {
      const found = await got(api.GET("/api/v1/me"));
      setCsrf(found.csrf);
      setZone(found.zone);
      return found;
    },
    staleTime: Infinity,
  });
  useLive(me.data !== undefined && !me.data.must_change_password);
  const location = useLocation();
  if (me.isPending) return <div className="p-8">{<Waiting what="your session" />}</div>;
  if (me.error instanceof Refusal && (me.error.status === 401 || me.error.status === 403)) return <SignIn />;
  if (!me.data)
    return (
      <div className="p-8">
        <Trouble error={me.error} retry={() => void me.refetch()} />
      </div>
    );
  if (me.data.must_change_password) return <FirstPassword name={me.data.name} />;
  return (
    <MeContext value={me.data}>
      <Shell key={me.data.zone}>
        <Suspense key={location.pathname} fallback={<Waiting what="the screen" />}>
          <Boundary what="The screen">
            <Routes>
              <Route path="/" element={<Navigate to={{ pathname: "/watch", search: location.search }} replace />} />
              <Route path="/watch" element={<Watch />} />
              <Route path="/watch/health" element={<Health />} />
              <Route path="/watch/compare" element={<Compare />} />
              <Route path="/watch/curves" element={<Curves />} />
              <Route path="/watch/rhythm" element={<Rhythm />} />
              <Route path="/devices" element={<Devices />} />
              <Route path="/devices/add" element={<AddDevice />} />
              <Route path="/devices/types" element={<Types />} />
              <Route path="/devices/types/:key" element={<Types />} />
              <Route path="/devices/types/:key/setpoints" element={<Limits />} />
              <Route path="/devices/sites" element={<Sites />} />
              <Route path="/devices/sites/:name" element={<Sites />} />
              <Route path="/devices/:name" element={<Device />} />
              <Route path="/devices/:name/edit" element={<EditDevice />} />
              <Route path="/arrivals" element={<Arrivals />} />
              <Route path="/decoders" element={<Definitions kind="decoder" />} />
              <Route path="/decoders/:id" element={<DecoderScreen />} />
              <Route path="/routes" element={<Book />} />
              <Route path="/routes/try" element={<Watching />} />
              <Route path="/routes/tables" element={<Tables />} />
              <Route path="/routes/:id" element={<RouteScreen />} />
              <Route path="/conditions" element={<Definitions kind="condition" />} />
              <Route path="/conditions/:id" element={<ConditionScreen />} />
              <Route path="/alarms" element={<Alarms />} />
              <Route path="/places" element={<Places />} />
              <Route path="/telling" element={<Telling />} />
              <Route path="/people" element={<People />} />
              <Route path="/settings" element={<Settings />} />
              <Route path="/settings/storage" element={<Storage />} />
              <Route path="/settings/archive" element={<Archive />} />
              <Route path="/help" element={<Help />} />
              <Route path="/help/:doc" element={<Help />} />
              <Route
                path="*"
                element={<Empty title="There is no such screen.">The places are in the list on the left.</Empty>}
              />
            </Routes>
          </Boundary>
        </Suspense>
      </Shell>
    </MeContext>
  );
}
