import { Component, type ErrorInfo, type ReactNode } from "react";

type Props = { what: string; children: ReactNode };

/**
 * Where a part of a screen fails, the rest stands: what was written elsewhere is not lost. The part can be drawn again,
 * and what to tell who runs Oculum can be copied.
 */
export class Boundary extends Component<Props, { error: Error | null; where: string }> {
  state = { error: null as Error | null, where: "" };

  static getDerivedStateFromError(error: unknown) {
    return { error: error instanceof Error ? error : new Error(String(error)) };
  }

  componentDidCatch(_: Error, info: ErrorInfo) {
    this.setState({ where: info.componentStack ?? "" });
  }

  render() {
    const { error, where } = this.state;
    if (!error) return this.props.children;
    // After an update of the server the parts of the page that were not fetched yet are gone.
    const old = /dynamically imported module|module script/i.test(error.message);
    const report = [error.message, location.pathname + location.search, where.trim()].join("\n");
    return (
      <div role="alert" className="my-2 max-w-xl border-l-3 border-ink bg-raised px-3 py-2">
        <p className="font-semibold">
          {old ? "Oculum was renewed while this page was open." : `${this.props.what} could not be drawn.`}
        </p>
        <p className="text-second">
          {old
            ? "Fetch the page anew to go on; what is not saved yet can be copied before that."
            : "The rest of the screen goes on, and nothing that was written is lost."}
        </p>
        <p className="mt-1 flex gap-4">
          {old ? (
            <button type="button" className="button" onClick={() => location.reload()}>
              Fetch the page anew
            </button>
          ) : (
            <button type="button" className="button" onClick={() => this.setState({ error: null, where: "" })}>
              Draw it again
            </button>
          )}
          <button type="button" className="link" onClick={() => void navigator.clipboard.writeText(report)}>
            copy what happened
          </button>
        </p>
        <details className="mt-1 text-[12.5px] text-second">
          <summary>What happened</summary>
          <pre className="max-h-40 overflow-auto font-mono whitespace-pre-wrap">{report}</pre>
        </details>
      </div>
    );
  }
}
