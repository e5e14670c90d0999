// The way to a new run, from wherever one is.
import { useNavigate } from 'react-router';
import { useMay } from '../data/queries';
import { Button } from './controls';

/** Build and package are chosen already where they are given. */
export function StartLink({ build, pkg }: { build?: string; pkg?: string }) {
  const navigate = useNavigate();
  const may = useMay('test');
  const q = new URLSearchParams();
  if (build) {
    q.set('build', build);
    const platform = /\/(\w+)@/.exec(build)?.[1];
    if (platform && platform !== 'android') q.set('where', `platform=${platform}`);
  }
  if (pkg) q.set('package', pkg);
  if (!may) return null;
  return <Button $main onPress={() => void navigate(`/start?${q}`)}>Start a run</Button>;
}
