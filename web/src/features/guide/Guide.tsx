import { useQuery } from '@tanstack/react-query';
import { useEffect, useRef, type MouseEvent } from 'react';
import styled from 'styled-components';
import { Link, useLocation } from 'wouter';
import { api, ask } from '../../api/client';
import { Failed, Loading, Quiet } from '../../ui/Quiet';
import { size } from '../../ui/theme';

const Layout = styled.div`
  display: grid;
  grid-template-columns: 262px minmax(0, 1fr);
  min-height: 0;
  @media (max-width: 700px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;

const Contents = styled.nav`
  overflow: auto;
  border-right: 1px solid ${(p) => p.theme.rule};
  padding: 16px 0;
  h2 {
    font-size: ${size.plain};
    color: ${(p) => p.theme.ink2};
    padding: 4px 24px;
  }
  h2 + ol ~ h2 {
    margin-top: 14px;
  }
  ol {
    list-style: none;
    margin: 0;
    padding: 0;
  }
  a {
    display: block;
    padding: 5px 20px 5px 21px;
    border-left: 3px solid transparent;
  }
  a:hover {
    background: ${(p) => p.theme.hover};
  }
  a[aria-current] {
    border-left-color: ${(p) => p.theme.ink};
    font-weight: 600;
  }
`;

const Page = styled.article`
  overflow: auto;
  padding: 22px 32px 60px;
  font-size: ${size.text};
  line-height: 21px;
  > * {
    max-width: 880px;
  }
  h1 {
    font-size: ${size.title};
    line-height: 28px;
    font-weight: 500;
    margin-bottom: 12px;
  }
  h2 {
    font-size: ${size.lead};
    font-weight: 600;
    margin: 26px 0 8px;
  }
  p,
  ul,
  ol {
    margin: 0 0 12px;
  }
  li {
    margin-bottom: 3px;
  }
  a {
    border-bottom: 1px dashed ${(p) => p.theme.ink2};
  }
  code {
    overflow-wrap: anywhere;
  }
  pre {
    overflow-x: auto;
    margin: 0 0 14px;
    padding: 10px 14px;
    border-left: 2px solid ${(p) => p.theme.ink};
    background: ${(p) => p.theme.panel};
    line-height: 18px;
    code {
      overflow-wrap: normal;
    }
  }
  img {
    display: block;
    width: 100%;
    max-width: 880px;
    border: 1px solid ${(p) => p.theme.rule};
    margin: 4px 0 8px;
  }
  table {
    border-collapse: collapse;
    margin-bottom: 14px;
  }
  th,
  td {
    text-align: left;
    vertical-align: baseline;
    padding: 5px 16px 5px 0;
    border-top: 1px solid ${(p) => p.theme.hairline};
  }
  th {
    font-weight: 500;
    color: ${(p) => p.theme.ink2};
  }
`;

/** The guide, in the order of the work, and what it leads to. */
export function Guide({ id }: { id: string }) {
  const guide = useQuery({ queryKey: ['guide'], queryFn: async () => (await ask(api.GET('/api/guide'))) ?? [] });
  const [, go] = useLocation();
  const page = useRef<HTMLElement>(null);
  const shown = guide.data?.find((p) => p.id === id) ?? (id === '' ? guide.data?.[0] : undefined);
  useEffect(() => page.current?.scrollTo(0, 0), [shown?.id]);
  if (guide.isError) return <Failed error={guide.error} again={() => void guide.refetch()} />;
  if (!guide.data) return <Loading what="Opening the guide…" />;
  const follow = (e: MouseEvent) => {
    const to = e.target instanceof Element ? e.target.closest('a')?.getAttribute('href') : null;
    if (!to?.startsWith('/guide/') || e.ctrlKey || e.metaKey || e.shiftKey) return;
    e.preventDefault();
    go(to);
  };
  const list = (which: boolean) => (
    <ol>
      {guide.data
        .filter((p) => p.guide === which)
        .map((p) => (
          <li key={p.id}>
            <Link href={`/guide/${p.id}`} aria-current={p === shown ? 'page' : undefined}>
              {p.title}
            </Link>
          </li>
        ))}
    </ol>
  );
  return (
    <Layout>
      <Contents aria-label="Pages of the guide">
        <h2>The guide</h2>
        {list(true)}
        <h2>Beside it</h2>
        {list(false)}
      </Contents>
      {shown ? (
        // Our own pages, which come with the program.
        <Page
          ref={page}
          data-guide={shown.id}
          tabIndex={0}
          aria-label={shown.title}
          onClick={follow}
          dangerouslySetInnerHTML={{ __html: shown.html }}
        />
      ) : (
        <Quiet>There is no such page in the guide.</Quiet>
      )}
    </Layout>
  );
}
