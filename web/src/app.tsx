import { useQuery } from "@tanstack/react-query";
import { Suspense } from "react";
import { Navigate, Route, Routes, useLocation } from "react-router";
import { Refusal } from "./api/client";
import { useLive } from "./api/live";
import { ofMe } from "./api/queries";
import { Empty, Trouble, Waiting } from "./parts/basics";
import { Boundary } from "./parts/boundary";
import { MeContext } from "./parts/me";
import { Shell } from "./parts/shell";
import { FirstPassword } from "./places/password";
import { SignIn } from "./places/sign-in";
import { SCREENS } from "./screens";

export function App() {
  const me = useQuery(ofMe());
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
              {SCREENS.map(({ path, Shown }) => (
                <Route key={path} path={path} element={<Shown />} />
              ))}
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
