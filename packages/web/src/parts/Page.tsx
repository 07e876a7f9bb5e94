import { Fragment, type ReactNode } from "react";
import { Link } from "react-router";
import { Title } from "./Title.tsx";
import { ErrorNote } from "./words.tsx";

interface Props {
  /** what the page is about, in the browser's tab */
  title: string;
  /** the pages above it, and last the page itself */
  trail?: ({ to: string; of: ReactNode } | string)[];
  heading: ReactNode;
  /** what stands beside the heading: a state */
  state?: ReactNode;
  /** a sentence below the heading */
  about?: ReactNode;
  /** what can be done on it */
  actions?: ReactNode;
  children?: ReactNode;
}

/** A page: the way to it, what it says, what can be done, and its content. */
export function Page({ title, trail, heading, state, about, actions, children }: Props) {
  return (
    <main className="page">
      <Title of={title} />
      <div className="head">
        <div>
          {trail && (
            <div className="crumbs">
              {trail.map((step, at) => (
                <Fragment key={at}>
                  {at > 0 && " / "}
                  {typeof step === "string" ? step : <Link to={step.to}>{step.of}</Link>}
                </Fragment>
              ))}
            </div>
          )}
          {state ? (
            <div className="actions">
              <h1>{heading}</h1>
              {state}
            </div>
          ) : (
            <h1>{heading}</h1>
          )}
          {about && <p className="quiet">{about}</p>}
        </div>
        {actions && <div className="actions">{actions}</div>}
      </div>
      {children}
    </main>
  );
}

/** Stands for a page whose query has not answered: says why, or that it is on its way. */
export function Unanswered({ error }: { error: unknown }) {
  return (
    <main className="page" aria-busy={!error}>
      <ErrorNote error={error} />
    </main>
  );
}
