package testpkg

import (
	"archive/zip"
	"bytes"
	"fmt"
)

// Single packs one script as a package under a name: file.star with this source.
func Single(name, file, source string) ([]byte, error) {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, f := range []struct{ name, text string }{{Entry, fmt.Sprintf("name: %s\nkind: script\n", name)}, {file, source}} {
		w, err := z.CreateHeader(&zip.FileHeader{Name: f.name, Method: zip.Deflate})
		if err != nil {
			return nil, err
		}
		if _, err := w.Write([]byte(f.text)); err != nil {
			return nil, err
		}
	}
	err := z.Close()
	return out.Bytes(), err
}

// ReadSingle reads one script as such a package.
func ReadSingle(name, file, source string) (*Package, error) {
	zip, err := Single(name, file, source)
	if err != nil {
		return nil, err
	}
	files, err := Open(bytes.NewReader(zip), int64(len(zip)))
	if err != nil {
		return nil, err
	}
	return Read(files)
}
