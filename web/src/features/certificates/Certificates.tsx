import { useMemo } from 'react';
import styled, { css } from 'styled-components';
import { useLocation } from 'wouter';
import {
  api,
  ask,
  useCertificates,
  useInForce,
  type Certificate,
  type CertificateSheet,
  type Way,
} from '../../api/client';
import { useKeys } from '../../ui/keys';
import { ListLine, LongList } from '../../ui/LongList';
import { isGood, Mark, outcomeWords, type MarkKind } from '../../ui/marks';
import { Failed, LinkButton, Loading, Quiet } from '../../ui/Quiet';
import { traceURL, useChosen, useQueryWord, withoutURL } from '../../ui/route';
import { Group, Lines, Sheet, Side, Top, Two } from '../../ui/TwoPane';
import { useViewHints } from '../../ui/hints';
import { dayWords } from '../../ui/time';
import { Wrapping } from '../../ui/Wrapping';
import { alteredProps, AlteredSaid, useAltered, type Altered } from '../../ui/altered';
import { size } from '../../ui/theme';

const columns = '20px minmax(90px, 1fr) minmax(120px, 2.2fr) minmax(90px, 1.2fr) 148px 150px';

const inColumns = css`
  display: grid;
  grid-template-columns: ${columns};
  column-gap: 14px;
  align-items: start;
  padding: 6px 24px;
`;

const Head = styled.div`
  ${inColumns}
  position: sticky;
  top: 0;
  z-index: 1;
  padding-bottom: 5px;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  background: ${(p) => p.theme.ground};
  color: ${(p) => p.theme.ink2};
  font-size: ${size.plain};
`;

const Line = styled(ListLine)`
  ${inColumns}
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  font:
    12px/19px 'IBM Plex Mono',
    monospace;
  overflow-wrap: anywhere;
  b {
    font-weight: 600;
  }
`;

const Said = styled.span<{ $look?: boolean }>`
  font:
    12.5px/19px 'IBM Plex Sans Variable',
    sans-serif;
  color: ${(p) => (p.$look ? p.theme.magenta : p.theme.ink2)};
`;

const Plain = styled.div`
  display: grid;
  grid-template-columns: 20px minmax(0, 1fr) minmax(0, 1.4fr);
  column-gap: 14px;
  padding: 6px 24px;
  border-top: 1px solid ${(p) => p.theme.hairline};
  font:
    12px/19px 'IBM Plex Mono',
    monospace;
  overflow-wrap: anywhere;
`;

/** A word that is not broken at its dashes. */
const Whole = styled.span`
  display: block;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
`;

const Sign = styled.span`
  line-height: 18px;
`;

/** How many ways of a list are shown. */
const most = 200;

/** The certificates: whom each is for, what shows it, until when, and whether it can be renewed; and what is shown none that is good. */
export function Certificates() {
  const sheet = useCertificates();
  if (sheet.isError) return <Failed error={sheet.error} again={() => void sheet.refetch()} />;
  if (!sheet.data) return <Loading what="Looking at the certificates…" />;
  if (sheet.data.certificates.length + sheet.data.untrusted.length === 0)
    return (
      <Quiet>
        No certificate is recorded, and nothing is asked for in TLS. Write one as{' '}
        <code>cert site for www.example.org expires 2027-03-01 on box by http-01</code>, or drop its file here: its
        names and its day are read, and keys are refused.
      </Quiet>
    );
  return <Listed sheet={sheet.data} />;
}

function Listed({ sheet }: { sheet: CertificateSheet }) {
  const [, go] = useLocation();
  const [word, setWord] = useQueryWord('cert', sheet.certificates[0]?.name ?? '');
  const { chosen, choose, settle } = useChosen(word, setWord);
  const cert = sheet.certificates.find((c) => c.name === chosen) ?? sheet.certificates[0];
  useViewHints([
    ['↑↓', 'certificate'],
    ['g', 'what if gone'],
  ]);
  useKeys({
    g: () => {
      if (!cert) return;
      settle();
      go(withoutURL(cert.name, { kind: 'certificate' }));
    },
  });
  const inForce = useInForce(['certificates'], (query) => ask(api.GET('/api/certificates', { params: { query } })));
  const altered = useAltered(sheet.certificates, inForce?.certificates, certKey);
  const drawn = useMemo(() => row(altered), [altered]);
  const bad = sheet.certificates.filter((c) => look(c)).length;
  return (
    <Two>
      <Sheet>
        <Top>
          <h2>Certificates</h2>
          <AlteredSaid altered={altered} name={certKey} />
          <p>
            {sheet.certificates.length} recorded
            {bad > 0 && `, ${bad} to look at`}
            {sheet.untrusted.length > 0 &&
              `; ${sheet.untrusted.length} ${sheet.untrusted.length === 1 ? 'name is' : 'names are'} shown none that is good`}
          </p>
        </Top>
        <Head aria-hidden>
          <span />
          <span>name</span>
          <span>for</span>
          <span>shown by</span>
          <span>good until</span>
          <span>renewal</span>
        </Head>
        <LongList
          label="Certificates"
          items={sheet.certificates.map((c) => ({ ...c, id: c.name }))}
          chosen={cert?.name ?? ''}
          onChoose={choose}
          onEnter={() => {
            settle();
            const first = cert?.serves[0];
            if (first) go(traceURL(first.target, first.from));
          }}
          lineHeight={32}
        >
          {drawn}
        </LongList>
        {sheet.untrusted.length > 0 && (
          <section aria-label="Shown none that is good">
            <Group>
              Shown none that is good <b>{sheet.untrusted.length}</b>
            </Group>
            {sheet.untrusted.slice(0, most).map((w) => (
              <Plain key={`${w.target} ${w.from}`} data-untrusted={w.target}>
                <Sign>
                  <Mark kind="stops" />
                </Sign>
                <span>
                  <LinkButton onPress={() => go(traceURL(w.target, w.from))}>{w.target}</LinkButton>
                  {w.from !== 'internet' && ` from ${w.from}`}
                </span>
                <Said>{w.why}</Said>
              </Plain>
            ))}
            {sheet.untrusted.length > most && <Quiet>and {sheet.untrusted.length - most} more</Quiet>}
          </section>
        )}
      </Sheet>
      <Side aria-label="The chosen certificate">{cert && <Chosen cert={cert} />}</Side>
    </Two>
  );
}

const certKey = (c: Certificate) => c.name;

const row = (altered: Altered<Certificate>) => (c: Certificate & { id: string }) => (
  <Line id={c.id} textValue={c.name} data-cert={c.name} {...alteredProps(altered, certKey(c), until)}>
    <Sign>
      <Mark kind={markOf(c)} />
    </Sign>
    <b>{c.name}</b>
    <span>{c.for.join(', ')}</span>
    <span>
      {c.shown.length === 0 && <Said>nobody</Said>}
      {[...new Set(c.shown.map((l) => l.place))].map((place) => (
        <Whole key={place}>{place}</Whole>
      ))}
    </span>
    <Said $look={c.state === 'expired'}>{until(c)}</Said>
    <Said $look={look(c) && c.state !== 'expired'}>{renewed(c)}</Said>
  </Line>
);

/** Whether there is something to do about a certificate. */
function look(c: Certificate): boolean {
  const proven = c.renewal.by !== '' && c.renewal.by !== 'hand';
  return c.state === 'expired' || c.state === 'trial' || (proven && !c.renewal.works);
}

function markOf(c: Certificate): MarkKind {
  if (c.state === 'expired' || c.state === 'trial') return 'stops';
  return c.state === 'wanted' ? 'unknown' : 'arrives';
}

/** Until when a certificate is good, in a few words. */
function until(c: Certificate): string {
  if (c.state === 'wanted') return 'not issued yet';
  if (c.state === 'expired') return `over since ${dayWords(c.expires)}`;
  return `${dayWords(c.expires)}, ${days(c.days)}`;
}

function days(n: number): string {
  if (n === 0) return 'today';
  return n === 1 ? '1 day' : `${n} days`;
}

/** How a certificate is renewed, in a few words. */
function renewed(c: Certificate): string {
  const { by, works, due } = c.renewal;
  if (by === '') return 'nothing renews it';
  if (by === 'hand') return 'by hand';
  if (!works) return `${by} does not get in`;
  return c.state === 'valid' ? `${by} from ${dayWords(due)}` : by;
}

function Chosen({ cert }: { cert: Certificate }) {
  const [, go] = useLocation();
  const r = cert.renewal;
  const places = [...new Set(cert.shown.map((l) => `${l.service} on ${l.place}`))];
  return (
    <>
      <h3>{cert.name}</h3>
      <p style={{ marginBottom: 10 }}>
        <code>
          <Wrapping text={cert.record} />
        </code>
      </p>
      <h3>Renewal</h3>
      <p style={{ marginBottom: 10 }}>
        {r.by === '' && 'Nothing recorded renews it.'}
        {r.by === 'hand' && `By hand${r.due && `, from ${dayWords(r.due)}`}.`}
        {r.by !== '' && r.by !== 'hand' && (
          <>
            By {r.by}
            {cert.expires !== '' &&
              `, from ${dayWords(r.due)} on, each ${r.every}: ${r.tries} ${r.tries === 1 ? 'try' : 'tries'} left until its last day is over`}
            .
          </>
        )}
        {places.length > 0 &&
          ` Then ${places.slice(0, 4).join(', ')}${places.length > 4 ? ` and ${places.length - 4} more` : ''} read${places.length === 1 ? 's' : ''} it anew.`}
      </p>
      {r.names.length > 0 && (
        <Lines aria-label="Whether each name can be proven">
          {r.names.map((n) => (
            <li key={n.name}>
              <Mark kind={n.works ? 'arrives' : 'stops'} /> {n.name}
              {n.caa.map((line) => (
                <div key={line}>
                  <Said>
                    <Wrapping text={line} />
                  </Said>
                </div>
              ))}
              {n.why && (
                <div>
                  <Said $look={!n.works}>{n.works ? n.why : `Cannot be proven as things stand: ${n.why}`}</Said>
                </div>
              )}
            </li>
          ))}
        </Lines>
      )}
      <h3>
        {cert.serves.length === 0 ? 'Nothing that is asked for is shown it' : `Shown to who asks for ${cert.asked}`}
      </h3>
      <Lines>
        {cert.serves.slice(0, 24).map((w: Way) => (
          <li key={`${w.target} ${w.from}`}>
            <LinkButton onPress={() => go(traceURL(w.target, w.from))}>{w.target}</LinkButton>
            {w.from !== 'internet' && ` from ${w.from}`}
            {!isGood(w.outcome) && <Said> · {outcomeWords[w.outcome]}</Said>}
          </li>
        ))}
        {cert.asked > 24 && <li>and {cert.asked - 24} more</li>}
      </Lines>
      <p>
        <LinkButton onPress={() => go(withoutURL(cert.name, { kind: 'certificate' }))}>
          What stops without it
        </LinkButton>
      </p>
    </>
  );
}
