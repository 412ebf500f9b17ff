/** No household: the door. Signed out: its bell. Signed in: the shell with its pages. */
import { Suspense, useEffect, useState } from "react";
import { Navigate, Route, Routes, useLocation } from "react-router";
import { useLive, useMe } from "./api/hooks";
import { Account, Activity, Adopt, AlbumPage, Albums, BroughtPage, Devices, Door, fetchPages, Folders, Library, Night, Offsite, PageThatCame, Places, Restore, Settings } from "./pages";
import { Overview } from "./pages/overview";
import { CountedFiles, Short } from "./pages/copies";
import { SignIn } from "./pages/sign-in";
import { Shell } from "./shell";
import { AddingPlace } from "./ui/adding";
import { PasswordAgain } from "./ui/again";
import { Fault, Waiting } from "./ui/states";

export function App() {
  const me = useMe();
  const at = useLocation().pathname;
  const there = useLive(me.isSuccess);
  // Once at the door, it is left by its own button: what it said last is read there.
  const [atDoor, setAtDoor] = useState(false);
  useEffect(() => {
    // When there is nothing better to do.
    const later = me.isSuccess ? setTimeout(() => void fetchPages(), 2000) : undefined;
    return () => clearTimeout(later);
  }, [me.isSuccess]);
  const noHouse = me.isError && me.error.kind === "not-set-up";
  if (noHouse && !atDoor) setAtDoor(true);
  if (me.isPending) return <Waiting what="the house" full />;
  if (atDoor) {
    return (
      <PageThatCame at={at}>
        <Suspense fallback={<Waiting what="the house" full />}>
          <Door leave={() => void me.refetch().then(() => setAtDoor(false))} />
        </Suspense>
      </PageThatCame>
    );
  }
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
      <AddingPlace key={me.data.id} me={me.data}>
      <PageThatCame at={at}>
        <Suspense fallback={<Waiting what="the page" full />}>
          <Routes>
            <Route path="/" element={<Overview keeper={keeper} />} />
            <Route path="/library" element={<Library keeper={keeper} />} />
            <Route path="/library/:id" element={<Library keeper={keeper} />} />
            <Route path="/albums" element={<Albums me={me.data} />} />
            <Route path="/albums/:album" element={<AlbumPage me={me.data} />} />
            <Route path="/albums/:album/:id" element={<AlbumPage me={me.data} />} />
            <Route path="/brought" element={<BroughtPage />} />
            <Route path="/places" element={<Places />} />
            <Route path="/folders" element={<Folders />} />
            <Route path="/devices" element={<Devices me={me.data} />} />
            {keeper && <Route path="/offsite" element={<Offsite />} />}
            {keeper && <Route path="/offsite/too-few" element={<Short />} />}
            {keeper && <Route path="/offsite/files/:which" element={<CountedFiles />} />}
            <Route path="/restore" element={<Restore me={me.data} />} />
            {/* Also for who may not: it is no picture's name. */}
            <Route path="/library/adopt" element={keeper ? <Adopt /> : <Navigate to="/library" replace />} />
            {keeper && <Route path="/rules" element={<Settings />} />}
            <Route path="/night" element={<Night me={me.data} />} />
            <Route path="/me" element={<Account me={me.data} />} />
            <Route path="/activity" element={<Activity keeper={keeper} />} />
            <Route path="*" element={<Navigate to="/" replace />} />
          </Routes>
        </Suspense>
      </PageThatCame>
      </AddingPlace>
    </Shell>
  );
}
