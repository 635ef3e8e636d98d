import { QueryClientProvider } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { Refusal } from "../api/client";
import { keys } from "../api/keys";
import { listen } from "../api/push";
import { client, useMe } from "../api/queries";
import { AccessPage } from "../pages/access/AccessPage";
import { ComparePage } from "../pages/compare/ComparePage";
import { DataPage } from "../pages/data/DataPage";
import { DeskPage } from "../pages/desk/DeskPage";
import { JournalPage } from "../pages/journal/JournalPage";
import { MarketPage } from "../pages/market/MarketPage";
import { ReplayPage } from "../pages/replay/ReplayPage";
import { ShelfPage } from "../pages/shelf/ShelfPage";
import { SignIn } from "../pages/signin/SignIn";
import { StrategyPage } from "../pages/strategy/StrategyPage";
import { Empty, ErrorNote, Skeleton } from "../ui/parts";
import { Toasts } from "../ui/toast";
import { Shell } from "./Shell";
import { left } from "./session";

/** Asks who is signed in once anything was refused because nobody is. */
function askAgain(error: unknown) {
  if (error instanceof Refusal && error.status === 401) client.invalidateQueries({ queryKey: keys.me() });
}

client.getQueryCache().subscribe((event) => {
  if (event.query.queryKey[0] !== "me") askAgain(event.query.state.error);
});
client.getMutationCache().subscribe((event) => askAgain(event.mutation?.state.error));

function Inside() {
  const me = useMe();
  const name = me.data?.name;
  // a page whose session ends stays as it is behind the door, with what was typed
  const known = useRef<string | null>(null);
  useEffect(() => (name ? listen(client) : undefined), [name]);
  if (me.isPending) return <Skeleton className="m-10 h-40" />;
  if (me.isError && !me.data)
    return (
      <div className="mx-auto mt-24 max-w-md">
        <ErrorNote error={me.error} onRetry={() => me.refetch()} />
      </div>
    );
  if (name) {
    // who signs in instead sees nothing of it
    if (known.current && known.current !== name)
      client.removeQueries({ predicate: (query) => query.queryKey[0] !== "me" });
    known.current = name;
    left.now = false;
  } else if (left.now) known.current = null;
  if (!known.current) return <SignIn />;
  return (
    <>
      {!name && (
        <div
          className="fixed inset-0 z-50 overflow-auto bg-paper"
          role="dialog"
          aria-modal="true"
          aria-label="Sign in again"
          data-door
        >
          <p role="alert" className="mx-auto mt-6 w-85 text-loss">
            Your session has ended. Sign in again as {known.current}: what you typed is still there.
          </p>
          <SignIn />
        </div>
      )}
      <Routes key={known.current}>
        <Route element={<Shell name={known.current} />}>
          <Route index element={<ShelfPage />} />
          <Route path="strategies/:id" element={<Navigate to="rules" replace />} />
          <Route path="strategies/:id/:stage" element={<StrategyPage />} />
          <Route path="compare" element={<ComparePage />} />
          <Route path="market" element={<MarketPage />} />
          <Route path="market/:symbol" element={<MarketPage />} />
          <Route path="desk" element={<DeskPage />} />
          <Route path="data" element={<DataPage />} />
          <Route path="data/:symbol" element={<DataPage />} />
          <Route path="intakes/:intake" element={<DataPage />} />
          <Route path="journal" element={<JournalPage />} />
          <Route path="access" element={<AccessPage />} />
          <Route path="replays/:id" element={<ReplayPage />} />
          <Route
            path="*"
            element={
              <Empty title="There is no such page.">
                <a className="link" href="/">
                  To the shelf
                </a>
              </Empty>
            }
          />
        </Route>
      </Routes>
    </>
  );
}

export function App() {
  return (
    <QueryClientProvider client={client}>
      <BrowserRouter>
        <Inside />
      </BrowserRouter>
      <Toasts />
    </QueryClientProvider>
  );
}
