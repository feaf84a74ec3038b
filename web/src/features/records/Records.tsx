import { lazy } from 'react';
import { useQueryWord } from '../../ui/route';
import { AsTable } from './AsTable';

const AsText = lazy(() => import('./AsText')); // with its editor, which is large

/** The whole estate, as text or as a table a kind. */
export default function Records() {
  const [kind] = useQueryWord('table', '');
  return kind === '' ? <AsText /> : <AsTable key={kind} kind={kind} />;
}
