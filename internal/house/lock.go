package house

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
)

// LockFolder takes a data folder for this process alone.
func LockFolder(dir string) (unlock func(), err error) {
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = f.Close()
		return nil, fmt.Errorf("another Tessellant uses the data folder %s; stop it, or choose another folder with --data", dir)
	}
	return func() { _ = f.Close() }, nil
}

// DefaultData is the data folder unless another is given.
func DefaultData() string {
	if d := os.Getenv("XDG_DATA_HOME"); d != "" {
		return filepath.Join(d, "tessellant")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "tessellant-data"
	}
	return filepath.Join(home, ".local", "share", "tessellant")
}
