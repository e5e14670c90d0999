package house

// Which adb server is used: a USB device has one owner, so one that is there already goes first.

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"time"

	"tessellant/internal/adb"
	"tessellant/internal/lab/adblab"
)

// ADBServerHelp says what can be chosen.
const ADBServerHelp = "adb server to use: host:port, or own for a private one; default: the one at 127.0.0.1:5037 if it runs, else a private one"

// ADBServer is the adb server in use.
type ADBServer struct {
	*adb.Server
	Found string // how it came to be used, in a sentence's part
	Ours  bool   // we started it: emulators do not tell it of themselves
	Stop  func()
}

// usualADB is where an adb server listens unless it is told otherwise; the variable is the platform tools' own.
func usualADB() string {
	return "127.0.0.1:" + cmp.Or(os.Getenv("ANDROID_ADB_SERVER_PORT"), "5037")
}

// FindADB gives the adb server that was chosen: an address, own, or "" for the one that is there. One of our own keeps its files in dir, and is
// started again when it dies.
func FindADB(ctx context.Context, choice, dir string) (ADBServer, error) {
	switch choice {
	case "":
		there := &adb.Server{Address: usualADB()}
		look, cancel := context.WithTimeout(ctx, 2*time.Second)
		defer cancel()
		if _, err := there.Version(look); err == nil {
			return ADBServer{there, "the adb server at " + there.Address + ", which was there", false, func() {}}, nil
		}
	case "own":
	default:
		return ADBServer{&adb.Server{Address: choice}, "the adb server at " + choice, false, func() {}}, nil
	}
	p, err := adb.StartServer(ctx, dir)
	if err != nil {
		return ADBServer{}, err
	}
	return ADBServer{&p.Server, fmt.Sprintf("an adb server of its own at %s", p.Address), true, p.Close}, nil
}

// EmulatorPorts are those at which emulators are to be looked for.
func EmulatorPorts(look bool) []int {
	if look {
		return adblab.EmulatorPorts()
	}
	return nil
}
