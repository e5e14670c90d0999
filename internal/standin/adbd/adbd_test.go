package adbd_test

import (
	"bufio"
	"encoding/binary"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/standin/adbd"
	"tessellant/internal/standin/phone"
)

// wire is a host's end of the transport, that does only what it is told.
type wire struct {
	t *testing.T
	net.Conn
	in *bufio.Reader
}

func dial(t *testing.T, p *phone.Phone) *wire {
	t.Helper()
	c, err := net.Dial("tcp", p.Address())
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	require.NoError(t, c.SetDeadline(time.Now().Add(time.Minute)))
	w := &wire{t, c, bufio.NewReader(c)}
	w.say(adbd.CmdCNXN, adbd.Version, adbd.MaxPayload, "host::")
	cmd, _, _, _ := w.hear()
	require.EqualValues(t, adbd.CmdCNXN, cmd)
	return w
}

func (w *wire) say(cmd, arg0, arg1 uint32, data string) {
	w.t.Helper()
	head := make([]byte, 24, 24+len(data))
	for i, v := range []uint32{cmd, arg0, arg1, uint32(len(data)), 0, cmd ^ 0xffffffff} {
		binary.LittleEndian.PutUint32(head[i*4:], v)
	}
	_, err := w.Write(append(head, data...))
	require.NoError(w.t, err)
}

func (w *wire) hear() (cmd, arg0, arg1 uint32, data string) {
	w.t.Helper()
	head := make([]byte, 24)
	_, err := io.ReadFull(w.in, head)
	require.NoError(w.t, err)
	body := make([]byte, binary.LittleEndian.Uint32(head[12:]))
	_, err = io.ReadFull(w.in, body)
	require.NoError(w.t, err)
	return binary.LittleEndian.Uint32(head), binary.LittleEndian.Uint32(head[4:]), binary.LittleEndian.Uint32(head[8:]), string(body)
}

func instant(t *testing.T) *phone.Phone {
	t.Helper()
	fleet, err := phone.ReadFleetFile("../../../demo/fleet.yaml", false)
	require.NoError(t, err)
	fleet[0].Temper = phone.Instant
	p, err := phone.Start(fleet[0], "127.0.0.1:0")
	require.NoError(t, err)
	return p
}

func TestAPhoneIsSwitchedOffWhateverItsStreamsDo(t *testing.T) {
	for range 40 {
		p := instant(t)
		for range 3 {
			w := dial(t, p)
			for id := range uint32(20) {
				service := "shell,v2,raw:sleep 60"
				if id%2 == 0 {
					service = "shell,v2,raw:getprop" // nobody takes what it says
				}
				w.say(adbd.CmdOPEN, id+1, 0, service+"\x00")
			}
			cmd, _, _, _ := w.hear()
			require.EqualValues(t, adbd.CmdOKAY, cmd)
		}
		off := make(chan struct{})
		go func() { p.Close(); close(off) }()
		select {
		case <-off:
		case <-time.After(20 * time.Second):
			require.Fail(t, "the phone can't be switched off")
		}
	}
}

func TestAHostThatKeepsToNothingIsCutOffOrRefused(t *testing.T) {
	p := instant(t)
	defer p.Close()
	cutOff := func(w *wire) {
		t.Helper()
		_, err := io.Copy(io.Discard, w.in)
		assert.NoError(t, err, "it is cut off, and does not wait")
	}
	// A message longer than was agreed, and one whose command is not confirmed.
	w := dial(t, p)
	head := make([]byte, 24)
	binary.LittleEndian.PutUint32(head, adbd.CmdWRTE)
	binary.LittleEndian.PutUint32(head[12:], adbd.MaxPayload+1)
	binary.LittleEndian.PutUint32(head[20:], adbd.CmdWRTE^0xffffffff)
	_, err := w.Write(head)
	require.NoError(t, err)
	cutOff(w)
	w = dial(t, p)
	_, err = w.Write(make([]byte, 24))
	require.NoError(t, err)
	cutOff(w)
	// What there is no stream for is closed; a service that there is not is refused.
	w = dial(t, p)
	w.say(adbd.CmdWRTE, 7, 99, "lost")
	cmd, arg0, arg1, _ := w.hear()
	assert.EqualValues(t, []uint32{adbd.CmdCLSE, 0, 7}, []uint32{cmd, arg0, arg1})
	w.say(adbd.CmdOPEN, 8, 0, "tea:\x00")
	cmd, arg0, arg1, _ = w.hear()
	assert.EqualValues(t, []uint32{adbd.CmdCLSE, 0, 8}, []uint32{cmd, arg0, arg1})
	// More streams than a phone has are refused; the ones before go on.
	for id := range uint32(adbd.MaxStreams) {
		w.say(adbd.CmdOPEN, 100+id, 0, "shell,v2,raw:sleep 60\x00")
		cmd, _, _, _ = w.hear()
		require.EqualValues(t, adbd.CmdOKAY, cmd)
	}
	w.say(adbd.CmdOPEN, 500, 0, "shell,v2,raw:getprop\x00")
	cmd, _, arg1, _ = w.hear()
	assert.EqualValues(t, []uint32{adbd.CmdCLSE, 500}, []uint32{cmd, arg1})
}

func TestAStreamThatIsThoughtAboutHoldsUpNoOther(t *testing.T) {
	p := instant(t)
	defer p.Close()
	w := dial(t, p)
	w.say(adbd.CmdOPEN, 1, 0, "shell,v2,raw:dumpsys window windows\x00") // says what it has to say while it looks at the phone
	cmd, dump, _, _ := w.hear()
	require.EqualValues(t, adbd.CmdOKAY, cmd)
	cmd, _, _, _ = w.hear()
	require.EqualValues(t, adbd.CmdWRTE, cmd, "and the host does not take it yet")
	w.say(adbd.CmdOPEN, 2, 0, "localabstract:webview_devtools_remote_1\x00") // looks at the phone before there is a stream
	w.say(adbd.CmdOPEN, 3, 0, "shell,v2,raw:echo here\x00")
	cmd, _, to, _ := w.hear()
	require.EqualValues(t, []uint32{adbd.CmdOKAY, 3}, []uint32{cmd, to})
	_, _, to, said := w.hear()
	assert.EqualValues(t, 3, to)
	assert.Contains(t, said, "here")
	for refused := false; !refused; { // as soon as the host takes what the dump says
		w.say(adbd.CmdOKAY, 1, dump, "")
		cmd, _, to, _ = w.hear()
		refused = cmd == adbd.CmdCLSE && to == 2
	}
}
