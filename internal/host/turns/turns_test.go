package turns

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
)

// told makes turns that keep what stands on the timeline.
func told() (t *Turns, notes *[]string, watched *atomic.Bool) {
	t, notes, watched = New(), &[]string{}, &atomic.Bool{}
	t.Note = func(name, answer, line string) {
		*notes = append(*notes, fmt.Sprintf("%s | %s | %s", name, answer, line))
	}
	t.Watched = watched.Load
	return t, notes, watched
}

func TestATestWaitsWhileItIsPausedAndItsClocksStand(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x, notes, _ := told()
		errTime := errors.New("out of time")
		ctx, cancel := x.Within(t.Context(), time.Minute, errTime)
		defer cancel()
		leave, changed, err := x.Enter(ctx, "tap #send")
		assert.NoError(t, err)
		assert.False(t, changed)
		assert.ErrorIs(t, x.Acting(ctx), ErrRunning)

		// A person pauses it in the middle of a command: it answers when that has ended.
		paused := make(chan error)
		go func() { paused <- x.Pause(t.Context(), "Ada", "the total is odd", 10*time.Minute) }()
		synctest.Wait()
		assert.True(t, x.Standing().Busy)
		assert.False(t, x.Open())
		time.Sleep(3 * time.Second)
		leave()
		leave() // twice
		assert.NoError(t, <-paused)
		assert.NoError(t, x.Acting(ctx))
		assert.True(t, x.Open())

		// The next command waits, for longer than the test may take.
		entered := make(chan bool)
		go func() {
			leave, changed, err := x.Enter(ctx, "tap #again")
			assert.NoError(t, err)
			leave()
			entered <- changed
		}()
		time.Sleep(5 * time.Minute)
		synctest.Wait()
		s := x.Standing()
		assert.Equal(t, "tap #again", s.Last)
		assert.True(t, s.Waits)
		assert.Equal(t, 303, s.Seconds)
		assert.Zero(t, x.Quiet(time.Hour), "a paused test is not silent")
		assert.NoError(t, ctx.Err())
		assert.NoError(t, x.Resume("Ben"))
		assert.True(t, <-entered, "people may have changed the screen")
		assert.NoError(t, x.Resume("Ben"), "once more changes nothing")
		assert.Equal(t, []string{"paused by Ada: the total is odd |  | ", "resumed after 5m3s | by Ben | "}, *notes)
		time.Sleep(2 * time.Second)
		assert.Equal(t, 2*time.Second, x.Quiet(time.Hour), "it counts from when the test went on")

		// Its own time ends it, less what it stood.
		time.Sleep(54 * time.Second)
		synctest.Wait()
		assert.NoError(t, ctx.Err())
		time.Sleep(5 * time.Second)
		synctest.Wait()
		assert.ErrorIs(t, context.Cause(ctx), errTime)
	})
}

func TestAPauseEndsByItself(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x, notes, watched := told()
		wait := func() time.Duration {
			begun := time.Now()
			leave, _, err := x.Enter(t.Context(), "tap")
			assert.NoError(t, err)
			leave()
			return time.Since(begun).Round(time.Second)
		}
		assert.NoError(t, x.Pause(t.Context(), "Ada", "", 0))
		assert.Equal(t, Alone, wait(), "nobody is there")
		assert.NoError(t, x.Pause(t.Context(), "Ada", "", 2*time.Minute))
		assert.Equal(t, 2*time.Minute, wait(), "for so long as was asked")
		watched.Store(true)
		assert.NoError(t, x.Pause(t.Context(), "Ada", "", 0))
		assert.Equal(t, Longest, wait(), "however long somebody watches")
		assert.Contains(t, (*notes)[5], "a pause lasts 30 minutes at most")

		// Whose way was cut has half a minute to come again.
		assert.NoError(t, x.Pause(t.Context(), "Ada", "", 0))
		time.Sleep(time.Minute)
		watched.Store(false)
		time.Sleep(Alone - 2*time.Second)
		assert.True(t, x.Standing().Paused)
		watched.Store(true)
		time.Sleep(time.Minute)
		assert.True(t, x.Standing().Paused)
		watched.Store(false)
		time.Sleep(Alone + 2*time.Second)
		assert.False(t, x.Standing().Paused)

		// Who does something is there.
		assert.NoError(t, x.Pause(t.Context(), "Ada", "", 0))
		for range 10 {
			time.Sleep(20 * time.Second)
			assert.NoError(t, x.Acting(t.Context()))
		}
		x.Close()
		assert.False(t, x.Standing().Paused)
		assert.ErrorIs(t, x.Pause(t.Context(), "Ada", "", 0), ErrOver)
		assert.ErrorIs(t, x.Resume("Ada"), ErrOver)
		assert.ErrorIs(t, x.Acting(t.Context()), ErrOver)
	})
}

func TestATestPausesForWhoWatches(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x, notes, watched := told()
		begun := time.Now()
		assert.NoError(t, x.Await(t.Context(), "is the total right?", "a.star:3"))
		assert.Zero(t, time.Since(begun), "nobody watches")
		watched.Store(true)
		go func() {
			time.Sleep(7 * time.Minute)
			assert.NoError(t, x.Resume("Ada"))
		}()
		assert.NoError(t, x.Await(t.Context(), "is the total right?", "a.star:4"))
		assert.Equal(t, 7*time.Minute, time.Since(begun))
		assert.Equal(t, []string{"not paused, as nobody watches: is the total right? |  | a.star:3", "paused by the test: is the total right? |  | a.star:4", "resumed after 7m0s | by Ada | a.star:4"}, *notes)

		// A person's pause may end while the test is stopped.
		ctx, cancel := context.WithCancelCause(t.Context())
		assert.NoError(t, x.Pause(t.Context(), "Ada", "", time.Minute))
		why := errors.New("it was stopped")
		time.AfterFunc(time.Second, func() { cancel(why) })
		_, _, err := x.Enter(ctx, "tap")
		assert.ErrorIs(t, err, why)
		x.Close()
	})
}

func TestACommandThatTakesLongIsNotWaitedForWithoutEnd(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x, _, _ := told()
		leave, _, _ := x.Enter(t.Context(), "wait for #done")
		assert.ErrorIs(t, x.Pause(t.Context(), "Ada", "", time.Hour), ErrBusy)
		assert.True(t, x.Standing().Paused, "it pauses behind it")
		assert.Equal(t, int((Longest - quietTakes).Seconds()), x.Standing().Left)
		leave()
		assert.True(t, x.Open())
		x.Close()
	})
}

func TestWithoutATestAllIsGiven(t *testing.T) {
	var x *Turns
	leave, changed, err := x.Enter(t.Context(), "tap")
	assert.NoError(t, err)
	assert.False(t, changed)
	leave()
	assert.NoError(t, x.Acting(t.Context()))
	assert.True(t, x.Open())
	assert.Equal(t, time.Hour, x.Quiet(time.Hour))
	x.Close()
}
