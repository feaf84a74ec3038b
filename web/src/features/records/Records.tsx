import { later } from '../../ui/later';
import { useQueryWord } from '../../ui/route';
import { AsTable } from './AsTable';

/** With its editor, which is large. */
export const AsText = later(() => import('./AsText').then((m) => m.AsText));

/** The whole estate, as text or as a table a kind. */
export function Records() {
  const [kind] = useQueryWord('table', '');
  return kind === '' ? <AsText /> : <AsTable key={kind} kind={kind} />;
}
