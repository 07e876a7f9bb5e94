import { Button } from "@mantine/core";
import { Component, type ReactNode } from "react";

/** A part of the pages that an earlier page still names, and that a newer version has not. */
const outdated = /dynamically imported module|Importing a module script failed|error loading dynamically/i;

/** Says what went wrong where a page can't be shown, and offers what helps; another address tries again. */
export class Boundary extends Component<{ place: string; children: ReactNode }, { error: Error | null; at: string }> {
  override state: { error: Error | null; at: string } = { error: null, at: this.props.place };

  static getDerivedStateFromError(error: Error) {
    return { error };
  }

  static getDerivedStateFromProps({ place }: { place: string }, state: { error: Error | null; at: string }) {
    return place === state.at ? null : { error: null, at: place };
  }

  override render() {
    const { error } = this.state;
    if (!error) return this.props.children;
    const old = outdated.test(error.message);
    return (
      <main className="page" role="alert">
        <h1>{old ? "A newer version has been installed" : "This page can't be shown"}</h1>
        <p style={{ maxWidth: 560, margin: "10px 0 18px" }}>
          {old
            ? "This page is of the version before. Load it again; unsaved changes of a pipeline are kept."
            : `${error.message}. Load it again; unsaved changes of a pipeline are kept.`}
        </p>
        <Button onClick={() => location.reload()}>Load the page again</Button>
      </main>
    );
  }
}
