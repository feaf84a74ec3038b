import { lazy, useState, type ComponentType } from 'react';

/**
 * A view whose code comes when it is asked for. Once it is there the view is shown at once: what React has waited for, be
 * it for a moment, it shows no sooner than 300 ms after.
 */
export function later<P extends object>(load: () => Promise<ComponentType<P>>) {
  let there: ComponentType<P> | null = null;
  const fetch = async () => {
    there = await load();
    return { default: there };
  };
  const Awaited = lazy(fetch);
  function Later(props: P) {
    const [View] = useState(() => there ?? Awaited);
    return <View {...props} />;
  }
  /** Asks for the code; done once it is there. */
  Later.fetch = fetch;
  return Later;
}
