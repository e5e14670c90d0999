// Package hostlinktest is the suite that every hostlink.Link passes: the one in the service's own process, and the
// one over the bus and HTTP.
//
// Each check has a sentence that says what a link must do, printed when it does not. In: a Subject, which is a link
// and what there is behind it. Out: a pass, or the sentences.
package hostlinktest

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/steps"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/tracks"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/work"
	"tessellant/internal/hostlink"
)

// Subject is the link under test, and the service behind it.
type Subject struct {
	Link hostlink.Link
	Host string // the host's name
	// Offer starts work that wants this device.
	Offer func(serial string)
	// Stop has a person stop the work of a hold.
	Stop func(hostlink.Hold)
	// Order hands an order to the host as the service does.
	Order func(context.Context, hostlink.Order) (hostlink.Result, error)
	// Open opens a stream as the service does, without an order.
	Open func(id string) (net.Conn, error)
	// Cases gives the cases of an attempt as the service has them, by name, with their verdicts.
	Cases func(hostlink.Hold) map[string]verdict.Verdict
	// Kept reads an artifact as the service has it; false: it has none of that name.
	Kept func(h hostlink.Hold, name string) ([]byte, bool)
	// Quarantined is why a device is in quarantine; "": it is not.
	Quarantined func(serial string) string
	// Watched gives the events of an attempt that goes on.
	Watched func(hostlink.Hold) []timeline.Event
	// Build is a reference to a build of the workspace, and its SHA-256.
	Build, BuildSHA string
}

const patience = 20 * time.Second

type check struct {
	name, explain string
	run           func(*probe)
}

type probe struct {
	*testing.T
	Subject
	ctx context.Context
	n   int
}

// Run tries everything that a link promises.
func Run(t *testing.T, s Subject) {
	for i, c := range checks {
		t.Run(c.name, func(t *testing.T) {
			ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
			defer cancel()
			t.Cleanup(func() {
				if t.Failed() {
					t.Log("what a link must do: " + c.explain)
				}
			})
			c.run(&probe{T: t, Subject: s, ctx: ctx, n: i})
		})
	}
}

// see shows the service one device, ready, and the others no more.
func (p *probe) see() (serial string) {
	serial = fmt.Sprintf("unit-%02d", p.n)
	_, err := p.Link.Devices(p.ctx, p.Host, hostlink.About{}, []hostlink.Seen{{Facts: devices.Facts{Serial: serial, Platform: "android", API: 30, ABIs: []string{"arm64-v8a"}}, State: "ready"}})
	require.NoError(p, err)
	return serial
}

// hold shows a device, offers work on it and waits for its hold.
func (p *probe) hold() (h hostlink.Hold) {
	serial := p.see()
	p.Offer(serial)
	p.until("the work comes as a hold", func() bool {
		all, err := p.Link.Holds(p.ctx, p.Host, nil)
		require.NoError(p, err)
		for _, x := range all {
			if x.Serial == serial {
				h = x
				return true
			}
		}
		return false
	})
	p.Cleanup(func() { _ = p.Link.Close(context.Background(), h, hostlink.Closing{Verdict: verdict.Passed}) })
	return h
}

func (p *probe) until(what string, cond func() bool) {
	p.Helper()
	for end := time.Now().Add(patience); !cond(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			require.Fail(p, "waited in vain until "+what)
		}
	}
}

func artifact(name string) hostlink.Artifact {
	a, _ := tracks.Named(name)
	return a
}

// nowhere is a hold that the service does not know.
var nowhere = hostlink.Hold{ID: "01ARZ3NDEKTSV4RRFFQ69G5FAV", AttemptID: "01ARZ3NDEKTSV4RRFFQ69G5FAW"}

var checks = []check{
	{"work comes as a hold with all that it needs", "Holds gives the hold of each piece of work on the host's devices, whole: whoever has it needs to ask nobody else.", func(p *probe) {
		h := p.hold()
		assert.NotEmpty(p, h.ID)
		assert.NotEmpty(p, h.AttemptID)
		assert.NotEmpty(p, h.WorkspaceID)
		assert.NotEmpty(p, h.WorkID)
		assert.Equal(p, work.Leg, h.Kind)
		assert.Equal(p, work.App{Build: h.Spec.App.Build, Ref: p.Build, ID: "org.kelpline.app", Activity: "org.kelpline.app.MainActivity", Size: h.Spec.App.Size, SHA256: p.BuildSHA}, h.Spec.App)
		assert.Equal(p, work.Scripts, h.Spec.Content.Kind)
		assert.Equal(p, []string{"a.test_a"}, h.Spec.Cases)
		assert.Equal(p, recording.Usual(), h.Spec.Recording)
		assert.Positive(p, h.Spec.Limits.Whole)
		assert.Positive(p, h.Epoch)
		assert.False(p, h.Stop)
		assert.False(p, h.Begun)
	}},
	{"of a hold in hand only what may have changed comes", "A host asks every second: of what it has in hand it is told the id, and whether it is to be stopped.", func(p *probe) {
		h := p.hold()
		again := func() hostlink.Hold {
			all, err := p.Link.Holds(p.ctx, p.Host, []string{h.ID})
			require.NoError(p, err)
			for _, x := range all {
				if x.ID == h.ID {
					return x
				}
			}
			return hostlink.Hold{}
		}
		assert.Equal(p, hostlink.Hold{ID: h.ID}, again())
		p.Stop(h)
		assert.Equal(p, hostlink.Hold{ID: h.ID, Stop: true}, again())
	}},
	{"new work wakes the host", "Wake gives a channel on which something comes when there is work; a host that sleeps a second between two looks begins at once.", func(p *probe) {
		wake, stop := p.Link.Wake(p.Host)
		defer stop()
		serial := p.see()
		for len(wake) > 0 {
			<-wake
		}
		p.Offer(serial)
		select {
		case <-wake:
		case <-time.After(patience):
			assert.Fail(p, "nobody woke the host")
		}
		p.hold()
	}},
	{"only a hold in force is renewed", "Renew answers those of the holds that are still this host's: the others are over, and their devices are somebody else's.", func(p *probe) {
		h := p.hold()
		kept, err := p.Link.Renew(p.ctx, p.Host, []string{h.ID, nowhere.ID})
		require.NoError(p, err)
		assert.Equal(p, []string{h.ID}, kept)
		require.NoError(p, p.Link.Close(p.ctx, h, hostlink.Closing{Verdict: verdict.Passed}))
		kept, err = p.Link.Renew(p.ctx, p.Host, []string{h.ID})
		require.NoError(p, err)
		assert.Empty(p, kept)
	}},
	{"a report that comes twice counts once", "Reports are numbered: a host that does not know whether one arrived tells it again.", func(p *probe) {
		h := p.hold()
		tell := func(ps ...hostlink.Progress) { require.NoError(p, p.Link.Report(p.ctx, h, ps)) }
		one := hostlink.CaseResult{Name: "a.test_a", Try: hostlink.Try{Verdict: verdict.Passed}}
		two := hostlink.CaseResult{Ordinal: 1, Name: "a.test_b", Try: hostlink.Try{Verdict: verdict.Failed, Message: "no"}}
		tell(hostlink.Progress{Seq: 1, Stage: "running"}, hostlink.Progress{Seq: 2, Case: &one})
		late := one
		late.Verdict = verdict.Crashed
		tell(hostlink.Progress{Seq: 2, Case: &late}, hostlink.Progress{Seq: 3, Case: &two})
		assert.Equal(p, map[string]verdict.Verdict{"a.test_a": verdict.Passed, "a.test_b": verdict.Failed}, p.Cases(h))
	}},
	{"what is never taken is ErrUnfit", "The host leaves out what is ErrUnfit. With any other error it would try for ever, and keep the device.", func(p *probe) {
		h := p.hold()
		require.ErrorIs(p, p.Link.Report(p.ctx, h, []hostlink.Progress{{Seq: 1, Stage: "dancing"}}), hostlink.ErrUnfit)
		require.ErrorIs(p, p.Link.Report(p.ctx, h, []hostlink.Progress{{Seq: 1, Case: &hostlink.CaseResult{Name: "x", Try: hostlink.Try{Verdict: "splendid"}}}}), hostlink.ErrUnfit)
		require.ErrorIs(p, p.Link.Keep(p.ctx, h, hostlink.Artifact{Name: "../../keys", Kind: "kept"}, strings.NewReader("x")), hostlink.ErrUnfit)
		require.ErrorIs(p, p.Link.Append(p.ctx, h, hostlink.Artifact{Name: "nonsense"}, 0, []byte("x")), hostlink.ErrUnfit)
		require.NoError(p, p.Link.Report(p.ctx, h, []hostlink.Progress{{Seq: 1, Stage: "running"}}), "the rest goes on")
	}},
	{"of an attempt that is not known all is ErrOver", "What a host keeps for an attempt that the service does not know, it throws away.", func(p *probe) {
		for what, err := range map[string]error{
			"report":  p.Link.Report(p.ctx, nowhere, []hostlink.Progress{{Seq: 1, Stage: "running"}}),
			"append":  p.Link.Append(p.ctx, nowhere, artifact(tracks.DeviceLog), 0, []byte("x")),
			"keep":    p.Link.Keep(p.ctx, nowhere, artifact(tracks.DeviceLog), strings.NewReader("x")),
			"release": p.Link.Release(p.ctx, nowhere, hostlink.Release{Clean: true}),
			"close":   p.Link.Close(p.ctx, nowhere, hostlink.Closing{Verdict: verdict.Passed}),
		} {
			require.ErrorIs(p, err, hostlink.ErrOver, what)
		}
		_, err := p.Link.Fetch(p.ctx, nowhere, hostlink.Build)
		require.ErrorIs(p, err, hostlink.ErrOver)
		_, err = p.Link.FetchBuild(p.ctx, nowhere, p.Build)
		require.ErrorIs(p, err, hostlink.ErrOver)
	}},
	{"an artifact takes the place of its parts, and of itself", "Parts are what a host that dies leaves; once the file comes whole, it counts alone, however often it comes.", func(p *probe) {
		h := p.hold()
		log := artifact(tracks.DeviceLog)
		require.NoError(p, p.Link.Append(p.ctx, h, log, 0, []byte("one\n")))
		require.NoError(p, p.Link.Append(p.ctx, h, log, 4, []byte("two\n")))
		require.NoError(p, p.Link.Append(p.ctx, h, log, 4, []byte("two\n")), "a part can come twice")
		_, kept := p.Kept(h, tracks.DeviceLog)
		assert.False(p, kept, "parts are no artifact yet")
		for _, whole := range []string{"one\ntwo\nthree\n", "one\ntwo\nthree\nfour\n"} {
			require.NoError(p, p.Link.Keep(p.ctx, h, log, strings.NewReader(whole)))
			got, _ := p.Kept(h, tracks.DeviceLog)
			assert.Equal(p, whole, string(got))
		}
	}},
	{"parts of an attempt that is lost are put together", "What a host uploaded before it was lost is not lost with it.", func(p *probe) {
		h := p.hold()
		log := artifact(tracks.DeviceLog)
		require.NoError(p, p.Link.Append(p.ctx, h, log, 4, []byte("two\n")))
		require.NoError(p, p.Link.Append(p.ctx, h, log, 0, []byte("one\n")))
		require.NoError(p, p.Link.Close(p.ctx, h, hostlink.Closing{Verdict: verdict.Lost, Message: "it went away"}))
		got, _ := p.Kept(h, tracks.DeviceLog)
		assert.Equal(p, "one\ntwo\n", string(got))
	}},
	{"a released device is somebody else's while its evidence is still coming", "Release gives the device back at once; the attempt ends with Close, and what is uploaded between counts.", func(p *probe) {
		h := p.hold()
		require.NoError(p, p.Link.Release(p.ctx, h, hostlink.Release{Clean: true}))
		require.NoError(p, p.Link.Release(p.ctx, h, hostlink.Release{Clean: true}), "it can be said again")
		p.Offer(h.Serial)
		var next hostlink.Hold
		p.until("somebody else has the device", func() bool {
			all, err := p.Link.Holds(p.ctx, p.Host, nil)
			require.NoError(p, err)
			for _, x := range all {
				if x.Serial == h.Serial && x.ID != h.ID {
					next = x
				}
			}
			return next.ID != ""
		})
		assert.Greater(p, next.Epoch, h.Epoch)
		kept, err := p.Link.Renew(p.ctx, p.Host, []string{h.ID, next.ID})
		require.NoError(p, err)
		assert.ElementsMatch(p, []string{h.ID, next.ID}, kept, "it is still in hand")
		require.NoError(p, p.Link.Report(p.ctx, h, []hostlink.Progress{{Seq: 1, Case: &hostlink.CaseResult{Name: "a.test_a", Try: hostlink.Try{Verdict: verdict.Failed}}}}))
		require.NoError(p, p.Link.Close(p.ctx, h, hostlink.Closing{Verdict: verdict.Failed}))
		assert.Equal(p, map[string]verdict.Verdict{"a.test_a": verdict.Failed}, p.Cases(h))
		require.NoError(p, p.Link.Close(p.ctx, next, hostlink.Closing{Verdict: verdict.Passed}))
	}},
	{"a device that is not clean gets no more work", "Without proof that it is as it was found, a device is quarantined, with the reason, until it has passed a check.", func(p *probe) {
		h := p.hold()
		require.NoError(p, p.Link.Release(p.ctx, h, hostlink.Release{Why: "org.kelpline.app can't be removed"}))
		require.NoError(p, p.Link.Close(p.ctx, h, hostlink.Closing{Verdict: verdict.Passed}))
		why := p.Quarantined(h.Serial)
		assert.Contains(p, why, "org.kelpline.app can't be removed")
	}},
	{"a hold can be closed again", "A host that does not know whether the end arrived tells it again: the first counts.", func(p *probe) {
		h := p.hold()
		for _, v := range []verdict.Verdict{verdict.Passed, verdict.Failed} {
			require.NoError(p, p.Link.Close(p.ctx, h, hostlink.Closing{Verdict: v}))
		}
		all, err := p.Link.Holds(p.ctx, p.Host, nil)
		require.NoError(p, err)
		for _, x := range all {
			assert.NotEqual(p, h.ID, x.ID, "a closed hold is not in force")
		}
	}},
	{"evidence that comes after the end is kept", "A host that was cut off finishes and uploads when it can; what it brings changes no verdict.", func(p *probe) {
		h := p.hold()
		require.NoError(p, p.Link.Close(p.ctx, h, hostlink.Closing{Verdict: verdict.Failed}))
		require.NoError(p, p.Link.Keep(p.ctx, h, artifact("screenshots/001-late.png"), strings.NewReader("late")))
		got, _ := p.Kept(h, "screenshots/001-late.png")
		assert.Equal(p, "late", string(got))
	}},
	{"closed evidence is not replaced", "Once an attempt has ended, a file that came whole stays as it is; a host may hand in the same again. What was put together from parts gives way to the whole.", func(p *probe) {
		h := p.hold()
		shot := artifact("screenshots/001-open.png")
		require.NoError(p, p.Link.Keep(p.ctx, h, shot, strings.NewReader("as it was")))
		require.NoError(p, p.Link.Append(p.ctx, h, artifact(tracks.DeviceLog), 0, []byte("one\n")))
		require.NoError(p, p.Link.Close(p.ctx, h, hostlink.Closing{Verdict: verdict.Lost, Message: "it went away"}))
		require.NoError(p, p.Link.Keep(p.ctx, h, shot, strings.NewReader("as it was")), "the same again")
		require.ErrorIs(p, p.Link.Keep(p.ctx, h, shot, strings.NewReader("forged")), hostlink.ErrUnfit)
		require.NoError(p, p.Link.Keep(p.ctx, h, artifact(tracks.DeviceLog), strings.NewReader("one\ntwo\n")))
		require.ErrorIs(p, p.Link.Keep(p.ctx, h, artifact(tracks.DeviceLog), strings.NewReader("forged")), hostlink.ErrUnfit)
		require.NoError(p, p.Link.Append(p.ctx, h, artifact(tracks.DeviceLog), 0, []byte("forged")), "it is there whole")
		for name, want := range map[string]string{shot.Name: "as it was", tracks.DeviceLog: "one\ntwo\n"} {
			got, _ := p.Kept(h, name)
			assert.Equal(p, want, string(got))
		}
	}},
	{"a file's name leads nowhere else", "People unpack archives of evidence: a name with .. in it, or with a folder of another system, is ErrUnfit.", func(p *probe) {
		h := p.hold()
		for _, name := range []string{"results/../../x.xml", "kept/../../../x", "kept/..\\..\\x", "/video.mp4", "screenshots//x.png", "kept/", "kept/" + strings.Repeat("x", 200)} {
			require.ErrorIs(p, p.Link.Keep(p.ctx, h, hostlink.Artifact{Name: name, Kind: "kept"}, strings.NewReader("x")), hostlink.ErrUnfit, name)
		}
		require.ErrorIs(p, p.Link.Append(p.ctx, h, artifact("screenshots/001-open.png"), 0, []byte("x")), hostlink.ErrUnfit, "it does not grow")
	}},
	{"the build and the package come as they were uploaded", "Fetch gives the very bytes: the host compares their SHA-256.", func(p *probe) {
		h := p.hold()
		sum := func(r io.ReadCloser, err error) string {
			require.NoError(p, err)
			defer r.Close()
			hash := sha256.New()
			_, err = io.Copy(hash, r)
			require.NoError(p, err)
			return hex.EncodeToString(hash.Sum(nil))
		}
		assert.Equal(p, h.Spec.App.SHA256, sum(p.Link.Fetch(p.ctx, h, hostlink.Build)))
		assert.Equal(p, h.Spec.Content.SHA256, sum(p.Link.Fetch(p.ctx, h, hostlink.Package)))
		assert.Equal(p, p.BuildSHA, sum(p.Link.FetchBuild(p.ctx, h, p.Build)))
		r, err := p.Link.Fetch(p.ctx, h, hostlink.References)
		require.NoError(p, err)
		raw, err := io.ReadAll(r)
		require.NoError(p, errors.Join(err, r.Close()))
		_, err = steps.ReadReferences(bytes.NewReader(raw), int64(len(raw)))
		assert.NoError(p, err, "the references of its steps: none yet, as a zip")
	}},
	{"a build that is not there ends no attempt", "A session may ask for a build that nobody uploaded: that is its mistake, and not the end of its hold.", func(p *probe) {
		h := p.hold()
		_, err := p.Link.FetchBuild(p.ctx, h, "nothing/android@1")
		require.Error(p, err)
		require.NotErrorIs(p, err, hostlink.ErrOver)
		assert.Contains(p, err.Error(), "nothing/android@1")
	}},
	{"what happens now reaches those who watch", "Live is for people who watch: it may be lost, and comes in order.", func(p *probe) {
		h := p.hold()
		for i := range 3 {
			require.NoError(p, p.Link.Live(p.ctx, h, hostlink.Now{Events: []timeline.Event{{Seq: i + 1, At: int64(i + 1), Kind: timeline.Marker, Name: fmt.Sprint("moment ", i)}}, Frame: []byte("a picture"), FrameAt: 5}))
		}
		p.until("the events are there", func() bool { return len(p.Watched(h)) == 3 })
		for i, e := range p.Watched(h) {
			assert.Equal(p, fmt.Sprint("moment ", i), e.Name)
		}
	}},
	{"orders reach the host, and their answers come back", "An order may be as large as a piece, and so may its answer. An order whose carrying out fails is answered with the problem.", func(p *probe) {
		stop, err := p.Link.Serve(p.Host, func(_ context.Context, o hostlink.Order) hostlink.Result {
			if o.Path == "/fails" {
				panic("the host has a fault")
			}
			return hostlink.Result{Status: 200, Size: len(o.Piece), Piece: bytes.ToUpper(o.Piece)}
		})
		require.NoError(p, err)
		defer stop()
		piece := bytes.Repeat([]byte("a"), hostlink.PieceSize)
		r, err := p.Order(p.ctx, hostlink.Order{ID: "1", Path: "/x", Size: len(piece), Piece: piece})
		require.NoError(p, err)
		assert.Equal(p, bytes.ToUpper(piece), r.Piece)
		assert.Equal(p, 200, r.Status)
		r, err = p.Order(p.ctx, hostlink.Order{ID: "2", Path: "/fails"})
		require.NoError(p, err)
		assert.Contains(p, r.Problem, "the host has a fault")
	}},
	{"a stream carries bytes both ways, with a window", "Who is ahead of the reader waits, nothing gets lost, and an end is told with what was sent before it.", func(p *probe) {
		theirs, err := p.Open("one")
		require.NoError(p, err)
		defer theirs.Close()
		ours, err := p.Link.Stream(p.Host, "one")
		require.NoError(p, err)
		defer ours.Close()
		many := bytes.Repeat([]byte("0123456789abcdef"), 1<<17)
		for from, to := range map[net.Conn]net.Conn{ours: theirs, theirs: ours} {
			sent := make(chan error, 1)
			go func() {
				_, err := from.Write(many)
				sent <- err
			}()
			got := make([]byte, len(many))
			require.NoError(p, to.SetReadDeadline(time.Now().Add(patience)))
			_, err := io.ReadFull(to, got)
			require.NoError(p, err)
			require.NoError(p, <-sent)
			assert.Equal(p, sha256.Sum256(many), sha256.Sum256(got))
		}
		_, err = ours.Write([]byte("the end"))
		require.NoError(p, err)
		require.NoError(p, ours.Close())
		rest, err := io.ReadAll(theirs)
		require.NoError(p, err)
		assert.Equal(p, "the end", string(rest))
	}},
	{"a call whose time is over ends", "Every call ends with its context: a host never hangs because the service does.", func(p *probe) {
		h := p.hold()
		over, cancel := context.WithCancel(p.ctx)
		cancel()
		begun := time.Now()
		_, err := p.Link.Holds(over, p.Host, nil)
		require.Error(p, err)
		err = p.Link.Report(over, h, []hostlink.Progress{{Seq: 1, Stage: "running"}})
		require.Error(p, err)
		assert.False(p, errors.Is(err, hostlink.ErrOver) || errors.Is(err, hostlink.ErrUnfit), "it is to be tried again: %v", err)
		assert.Less(p, time.Since(begun), patience)
	}},
}
