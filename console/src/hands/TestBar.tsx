// How the test stands on whose device a person looks; a button to pause it, and one to resume it.
import { useAction } from '../data/action';
import { answer, http } from '../data/api';
import { useMay } from '../data/queries';
import { Button } from '../parts/controls';
import { Head, Mono, Refused, Sub } from '../parts/page';
import type { Held } from './useLive';
import { testSentence } from './words';

const lastOf = (test: NonNullable<Held['test']>) =>
  test.waits ? 'This command waits: ' : test.busy ? 'This command has not ended yet: ' : 'Its last command: ';

export function TestBar({ id, serial, live }: { id: string; serial: string; live: Held }) {
  const may = useMay('test');
  const path = { params: { path: { id } } };
  const { test } = live;
  const pause = useAction(async () => {
    await answer(http.POST('/hands/{id}/test/pause', { ...path, body: {} }));
    live.send({ take: true });
  });
  const resume = useAction(async () => void (await answer(http.POST('/hands/{id}/test/resume', path))));
  return (
    <>
      <Head>
        <div>
          <h1>{testSentence(test, serial, live.way)}</h1>
          <Sub>
            {test?.paused && test.last && <>{lastOf(test)}<Mono>{test.last}</Mono> · </>}
            {test && (test.paused
              ? 'Its time limits stand, for 30 minutes at most.'
              : 'You see its screen. To touch it, pause the test: its next command then waits.')}
          </Sub>
        </div>
        {may && test && live.way === 'open' && (test.paused
          ? <Button $main isDisabled={resume.busy} onPress={() => void resume.run()}>Resume test</Button>
          : <Button $main isDisabled={pause.busy} onPress={() => void pause.run()}>Pause test</Button>)}
      </Head>
      {pause.error !== undefined && <Refused error={pause.error} />}
      {resume.error !== undefined && <Refused error={resume.error} />}
    </>
  );
}
