package film

import (
	"context"
	"image/color"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// next is what a watcher sees next of the film.
func next(t *testing.T, w *Watcher) Seen {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	s, err := w.Film(ctx)
	require.NoError(t, err)
	return s
}

// keeps waits until a picture of that moment is kept: the next has begun.
func (r *rolling) keeps(at int64) {
	r.t.Helper()
	require.Eventually(r.t, func() bool {
		r.reel.mu.Lock()
		defer r.reel.mu.Unlock()
		return r.reel.last >= at
	}, 20*time.Second, time.Millisecond)
}

// nothing says that a watcher sees no more for a while.
func nothing(t *testing.T, w *Watcher) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 60*time.Millisecond)
	defer cancel()
	_, err := w.Film(ctx)
	require.ErrorIs(t, err, context.DeadlineExceeded)
}

func TestWhoWatchesSeesEachPictureOnceAndAtOnce(t *testing.T) {
	p := newProjector(t)
	r := roll(t, p, time.Hour)
	film := <-p.come
	w := r.Watch()
	for i, ms := range []int64{400, 900, 2000} {
		r.at(ms, film)
		s := next(t, w)
		assert.Equal(t, ms, s.At, "also while no other picture has begun")
		assert.Equal(t, i == 0, s.Key)
		assert.Equal(t, i == 0, s.Record != nil)
		assert.NotEmpty(t, s.Units)
		nothing(t, w)
	}
	late := r.Watch() // one who comes later sees what is needed for the newest
	for _, ms := range []int64{400, 900, 2000} {
		assert.Equal(t, ms, next(t, late).At)
	}
	nothing(t, late)
	r.at(2100, film)
	assert.EqualValues(t, 2100, next(t, w).At)
	assert.EqualValues(t, 2100, next(t, late).At)
}

func TestWhoIsBehindGoesToTheNewestThatNeedsNoneBeforeIt(t *testing.T) {
	p := newProjector(t)
	r := roll(t, p, time.Hour)
	film := <-p.come
	w := r.Watch()
	r.at(400, film)
	assert.EqualValues(t, 400, next(t, w).At)
	for _, ms := range []int64{500, 600, 5000} {
		r.at(ms, film)
	}
	r.Anew(1)
	assert.Equal(t, LeastRate, r.Rate())
	second := <-p.come
	r.at(6000, second)
	r.at(6100, second)
	r.keeps(6000)
	s := next(t, w)
	assert.EqualValues(t, 6000, s.At)
	assert.True(t, s.Key)
	assert.EqualValues(t, 6100, next(t, w).At)
	nothing(t, w)
}

func TestWhoComesLateGetsABeginningOfTheirOwn(t *testing.T) {
	p := newProjector(t)
	r := roll(t, p, time.Hour)
	film := <-p.come
	r.at(100, film)
	one := film.shots[0]
	for i := range longReplay + 2 { // many that need those before them
		film.shots = append([][]byte{one}, film.shots...)
		r.at(int64(200+i), film)
	}
	r.keeps(200 + longReplay)
	w := r.Watch()
	second := <-p.come
	r.at(9000, second)
	s := next(t, w)
	assert.EqualValues(t, 9000, s.At)
	assert.True(t, s.Key)
	// Where none comes, what there is must do.
	for i := range longReplay + 2 {
		second.shots = append([][]byte{one}, second.shots...)
		r.at(int64(9100+i), second)
	}
	r.keeps(9100 + longReplay)
	w = r.Watch()
	w.until = time.Now()
	assert.EqualValues(t, 9000, next(t, w).At)
}

func TestAPictureThatComesInHalvesHasTheFilmBeginAnew(t *testing.T) {
	p := newProjector(t)
	r := roll(t, p, time.Hour)
	film := <-p.come
	w := r.Watch()
	r.at(400, film)
	next(t, w)
	whole := film.shots[0]
	film.shots[0] = whole[:len(whole)-20]
	r.at(500, film)
	assert.EqualValues(t, 500, next(t, w).At, "nothing says that it is not whole")
	film.shots = append([][]byte{whole[len(whole)-20:]}, film.shots...)
	r.at(560, film)
	r.at(700, film)
	go func() { // what shows nothing is left out
		second := <-p.come
		r.at(900, second)
	}()
	s := next(t, w)
	assert.EqualValues(t, 900, s.At)
	assert.True(t, s.Key)
	assert.Equal(t, 2*shortQuiet, r.reel.resting(), "it waits longer from now on")
}

func TestWhereTheDeviceDoesNotFilmSinglePicturesAreSeen(t *testing.T) {
	f, err := New(t.TempDir(), nil, func(time.Time) int64 { return 0 }, nil, nil)
	require.NoError(t, err)
	assert.False(t, f.Films())
	w := f.Watch()
	f.AddPNG(1000, plain(t, 96, 160, color.White))
	f.rest()
	s, err := w.Single(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, 1000, s.At)
	assert.NotEmpty(t, s.JPEG)
	assert.Equal(t, 96, f.Held().X)
	f.AddPNG(2000, plain(t, 96, 160, color.White)) // as it was
	f.rest()
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Millisecond)
	defer cancel()
	_, err = w.Single(ctx)
	assert.ErrorIs(t, err, context.DeadlineExceeded)
}
