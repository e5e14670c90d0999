// What stands in the place of something that is fetched: that it is awaited, that it was refused, or it.
import { Component, type ReactNode } from 'react';
import { Button } from './controls';
import { Awaited, Page, Refused, Sub } from './page';

interface Asked<T> {
  data: T | undefined;
  error: unknown;
  refetch: () => unknown;
}

/** What was fetched, as soon as it is there. What can't be fetched anew stays, and the reason stands above it. */
export function Loaded<T>({ of, what, page, children }: { of: Asked<T>; what: string; page?: boolean; children: (data: T) => ReactNode }) {
  const refused = of.error ? (
    <Refused page={page && of.data === undefined} error={of.error}>
      {of.data !== undefined && <Sub>This page may be out of date.</Sub>}
      <div><Button onPress={() => void of.refetch()}>Try again</Button></div>
    </Refused>
  ) : null;
  const inside = of.data !== undefined ? <>{refused}{children(of.data)}</> : (refused ?? <Awaited what={what} />);
  return page && of.data === undefined ? <Page>{inside}</Page> : inside;
}

/** A part of the program that could not be loaded: after an upgrade of the service, those of the old version are gone. */
export class NotLoaded extends Error {}

const reload = () => location.reload();

/** Catches what fails while a page is drawn, so that the rest of the console stays. Another key begins anew. */
export class Boundary extends Component<{ children: ReactNode }, { error?: unknown }> {
  override state: { error?: unknown } = {};

  static getDerivedStateFromError(error: unknown) {
    return { error };
  }

  override render() {
    const { error } = this.state;
    if (error === undefined) return this.props.children;
    return (
      <Page>
        {error instanceof NotLoaded ? (
          <Newer what="This page could not be loaded. The service may have been updated." />
        ) : (
          <Refused page error={error}><div><Button $main onPress={reload}>Load again</Button></div></Refused>
        )}
      </Page>
    );
  }
}

/** Says that the page is of an earlier version of the service. */
export function Newer({ what }: { what: string }) {
  return (
    <p role="alert">
      {what} <Button $small onPress={reload}>Load again</Button>
    </p>
  );
}
