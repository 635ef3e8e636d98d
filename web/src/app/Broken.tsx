import { ErrorBoundary, type FallbackProps } from "react-error-boundary";
import { useLocation } from "react-router";

/** What stands where a page broke: the rest of the application, Halt with it, goes on. */
function Broke({ error, resetErrorBoundary }: FallbackProps) {
  return (
    <div role="alert" className="card m-6 max-w-2xl px-4 py-3">
      <b className="font-semibold">This page has broken.</b>
      <p>
        What was saved or sent is safe; what was being typed here is lost. Orders, deployments and runs go on
        without the page.
      </p>
      <p className="my-2 text-soft">{error instanceof Error ? error.message : String(error)}</p>
      <button type="button" className="button small" onClick={resetErrorBoundary}>
        Show it again
      </button>
    </div>
  );
}

/** Keeps a page that breaks from taking the others along; another address begins anew. */
export function Unbroken({ children }: { children: React.ReactNode }) {
  const { pathname } = useLocation();
  return (
    <ErrorBoundary FallbackComponent={Broke} resetKeys={[pathname]}>
      {children}
    </ErrorBoundary>
  );
}
