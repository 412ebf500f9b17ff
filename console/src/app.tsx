/** No household: the door. Signed out: its bell. Signed in: the shell with its pages. */
import { lazy, Suspense, useState } from "react";
import { Navigate, Route, Routes } from "react-router";
import { useLive, useMe } from "./api/hooks";
import { Activity } from "./pages/activity";
import { Adopt } from "./pages/adopt";
import { Devices } from "./pages/devices";
import { Door } from "./pages/door";
import { Library } from "./pages/library";
import { Account } from "./pages/me";
import { Offsite } from "./pages/offsite";
import { Overview } from "./pages/overview";
import { Restore } from "./pages/restore";
import { Settings } from "./pages/settings";
import { Short } from "./pages/short";
import { SignIn } from "./pages/sign-in";
import { Shell } from "./shell";
import { PasswordAgain } from "./ui/again";
import { Fault, Waiting } from "./ui/states";

// Brings the upload protocol along, which no other page needs.
const Night = lazy(() => import("./pages/night").then((m) => ({ default: m.Night })));

export function App() {
  const me = useMe();
  const there = useLive(me.isSuccess);
  // Once at the door, it is left by its own button: what it said last is read there.
  const [atDoor, setAtDoor] = useState(false);
  const noHouse = me.isError && me.error.kind === "not-set-up";
  if (noHouse && !atDoor) setAtDoor(true);
  if (me.isPending) return <Waiting what="the house" full />;
  if (atDoor) return <Door leave={() => void me.refetch().then(() => setAtDoor(false))} />;
  if (me.isError) {
    return me.error.kind === "not-signed-in" ? (
      <SignIn />
    ) : (
      <div className="mx-auto max-w-xl p-8">
        <Fault failure={me.error} again={() => void me.refetch()} />
      </div>
    );
  }
  const keeper = me.data.role === "keeper";
  return (
    <Shell me={me.data} there={there}>
      <PasswordAgain name={me.data.name} />
      <Routes>
        <Route path="/" element={<Overview keeper={keeper} />} />
        <Route path="/library" element={<Library keeper={keeper} />} />
        <Route path="/library/:id" element={<Library keeper={keeper} />} />
        <Route path="/devices" element={<Devices me={me.data} />} />
        {keeper && <Route path="/offsite" element={<Offsite />} />}
        {keeper && <Route path="/offsite/too-few" element={<Short />} />}
        <Route path="/restore" element={<Restore me={me.data} />} />
        {/* Also for who may not: it is no picture's name. */}
        <Route path="/library/adopt" element={keeper ? <Adopt /> : <Navigate to="/library" replace />} />
        {keeper && <Route path="/rules" element={<Settings />} />}
        <Route
          path="/night"
          element={
            <Suspense fallback={<Waiting what="the night page" full />}>
              <Night me={me.data} />
            </Suspense>
          }
        />
        <Route path="/me" element={<Account me={me.data} />} />
        <Route path="/activity" element={<Activity keeper={keeper} />} />
        <Route path="*" element={<Navigate to="/" replace />} />
      </Routes>
    </Shell>
  );
}
