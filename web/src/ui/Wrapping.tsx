import { Fragment } from 'react';

/** Text that may wrap behind a dot, comma, hyphen or single slash, as names, addresses and lists should. */
export function Wrapping({ text }: { text: string }) {
  return text.split(/(?<=[.,-]|[^/:]\/)(?!\/)/).map((part, i) => (
    <Fragment key={i}>
      {i > 0 && <wbr />}
      {part}
    </Fragment>
  ));
}
