package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
)

// lockFolder takes a data folder for this process alone.
func lockFolder(dir string) (unlock func(), err error) {
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
