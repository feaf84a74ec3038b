import { useLocation } from 'wouter';
import styled from 'styled-components';
import { useMeaning, type KindWords, type LineMark, type TableRow } from '../../api/client';
import { Acts, LinkButton, Plain } from '../../ui/Quiet';
import { usesURL } from '../../ui/route';

const Written = styled.code`
  display: block;
  padding: 8px 0 10px;
  line-height: 19px;
  overflow-wrap: anywhere;
`;

const Look = styled.p`
  && {
    color: ${(p) => p.theme.magenta};
  }
`;

interface Props {
  kind: KindWords;
  row: TableRow | undefined;
  chosen: number;
  mark: LineMark | undefined;
  may: boolean;
  onForm: () => void;
  onAdd: () => void;
  onOut: () => void;
}

/** The record at hand: its line, what it means, what is wrong at it, and what can be done with it, or with all that are chosen. */
export function AboutRecord({ kind, row, chosen, mark, may, onForm, onAdd, onOut }: Props) {
  const [, go] = useLocation();
  const meaning = useMeaning(kind.word, row?.line ?? '');
  return (
    <>
      {row ? (
        <>
          {chosen > 1 ? <h2>{chosen} records are chosen.</h2> : meaning && <h2>{meaning}</h2>}
          <Written>{row.line}</Written>
          {row.comments?.map((c, i) => (
            <p key={i}>
              <i>{c}</i>
            </p>
          ))}
          {mark && <Look title={mark.code}>{mark.why}</Look>}
          <p>
            <LinkButton onPress={() => go(usesURL(row.cells[0] ?? ''))}>Where {row.cells[0]} is used</LinkButton>
          </p>
        </>
      ) : (
        <h2>{kind.word}</h2>
      )}
      {may && (
        <Acts style={{ flexWrap: 'wrap' }}>
          {row && <Plain onPress={onForm}>{chosen > 1 ? `Change ${chosen}` : 'Change'}</Plain>}
          {!(kind.single && row) && <Plain onPress={onAdd}>Add one</Plain>}
          {row && <Plain onPress={onOut}>{chosen > 1 ? `Take out ${chosen}` : 'Take out'}</Plain>}
        </Acts>
      )}
      <h3>How a {kind.word} is written</h3>
      <Written>{kind.usage}</Written>
      <p>
        Found by a word of the line, or of one column, as <code>{kind.fields[0]?.column}=word</code>; <code>off=</code>{' '}
        finds where a column is empty.
      </p>
    </>
  );
}
