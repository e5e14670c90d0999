package appfile

// Whether a build's contents are those that were signed. The signature itself, and whose it is, are not looked at: this finds what was changed, or
// packed anew, after it was signed, which devices refuse.
//
// source.android.com: APK Signature Scheme v2 ("Integrity-protected contents", "APK Signing Block"), v3; JAR File Specification, "JAR Manifest".

import (
	"bufio"
	"bytes"
	"crypto/sha1" //nolint:gosec // old builds are signed so
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"io"
	"path"
	"strings"
)

const (
	// MaxWhole is how many bytes a build may have whose contents are held against its signature: it costs about a second for 150 MB.
	MaxWhole = 256 << 20

	maxBlock    = 16 << 20 // bytes of a signing block
	maxUnpacked = 1 << 30  // bytes of all files together that are held against a JAR manifest
	maxJAR      = 16 << 20 // bytes of a JAR manifest
	chunkOfAPK  = 1 << 20
	changedWhat = "its contents are not those that were signed"
	changedDo   = "sign it after the last change to the file: devices refuse it"
)

var errBlock = errors.New("its signing block can't be read")

// Whole holds the build's contents against its signature; what is found is nil where they agree, or where it is not signed.
func (f *File) Whole() (*Finding, error) {
	if f.size > MaxWhole {
		return &Finding{"notes", fmt.Sprintf("its contents were not held against its signature: it is larger than %d MB", MaxWhole>>20), "see whether it installs"}, nil
	}
	block, err := f.block()
	if errors.Is(err, errBlock) {
		return &Finding{"warns", err.Error(), changedDo}, nil
	}
	if err != nil {
		return nil, err
	}
	same := true
	if block != nil {
		same, err = f.blockAgrees(block)
	} else {
		same, err = f.manifestAgrees()
	}
	if errors.Is(err, errBlock) || (err == nil && !same) {
		return &Finding{"warns", changedWhat, changedDo}, nil
	}
	return nil, err
}

// signed says whether there is a signature at all, of the first scheme (a file in META-INF) or a later one (a block before the zip's directory). Whether it is
// good is not looked at.
func (f *File) signed() (bool, error) {
	for name := range f.named {
		if dir, name := path.Split(name); dir == "META-INF/" {
			switch strings.ToUpper(path.Ext(name)) {
			case ".RSA", ".DSA", ".EC":
				return true, nil
			}
		}
	}
	_, there, err := f.blockSize()
	return there, err
}

const blockFoot = 24 // bytes at a signing block's end: its size, and what it is

// blockSize is what the signing block says of its size at its end, in bytes without the 8 that say it at its beginning. It ends where the zip's
// directory begins; where a zip64 record says that place, there is none.
func (f *File) blockSize() (size uint64, there bool, err error) {
	const magic = "APK Sig Block 42"
	if f.dir.Begin < blockFoot+8 {
		return 0, false, nil
	}
	foot := make([]byte, blockFoot)
	if _, err := f.r.ReadAt(foot, f.dir.Begin-blockFoot); err != nil {
		return 0, false, fmt.Errorf("read the signing block: %w", err)
	}
	return binary.LittleEndian.Uint64(foot), string(foot[8:]) == magic, nil
}

// block gives the signing block; nil: there is none.
func (f *File) block() ([]byte, error) {
	size, there, err := f.blockSize()
	if err != nil || !there {
		return nil, err
	}
	if size < blockFoot || size > maxBlock || int64(size)+8 > f.dir.Begin {
		return nil, errBlock
	}
	block := make([]byte, size+8)
	if _, err := f.r.ReadAt(block, f.dir.Begin-int64(len(block))); err != nil {
		return nil, fmt.Errorf("read the signing block: %w", err)
	}
	if binary.LittleEndian.Uint64(block) != size {
		return nil, errBlock
	}
	return block, nil
}

// prefixed takes a value that has its length before it, in 4 bytes.
func prefixed(b []byte) (value, rest []byte, err error) {
	if len(b) < 4 {
		return nil, nil, errBlock
	}
	n := uint64(binary.LittleEndian.Uint32(b))
	if n > uint64(len(b)-4) {
		return nil, nil, errBlock
	}
	return b[4 : 4+n], b[4+n:], nil
}

// schemes are the ids of the pairs that hold signers: version 2, 3 and 3.1.
var schemes = map[uint32]bool{0x7109871a: true, 0xf05368c0: true, 0x1b93ad61: true}

// digests are those of the content that the signers name, by the hash that they use.
func digests(pairs []byte) (map[string][]byte, error) {
	out := map[string][]byte{}
	for len(pairs) >= 12 {
		n := binary.LittleEndian.Uint64(pairs)
		if n < 4 || n > uint64(len(pairs)-8) {
			return nil, errBlock
		}
		id, value := binary.LittleEndian.Uint32(pairs[8:]), pairs[12:8+n]
		pairs = pairs[8+n:]
		if !schemes[id] {
			continue
		}
		signers, _, err := prefixed(value)
		for err == nil && len(signers) > 0 {
			var signer, signed, list []byte
			if signer, signers, err = prefixed(signers); err != nil {
				break
			}
			if signed, _, err = prefixed(signer); err != nil {
				break
			}
			if list, _, err = prefixed(signed); err != nil {
				break
			}
			for err == nil && len(list) > 0 {
				var one, digest []byte
				if one, list, err = prefixed(list); err != nil {
					break
				}
				if len(one) < 4 {
					return nil, errBlock
				}
				algorithm := binary.LittleEndian.Uint32(one)
				if digest, _, err = prefixed(one[4:]); err != nil {
					break
				}
				switch algorithm {
				case 0x0101, 0x0103, 0x0201, 0x0301:
					out["SHA-256"] = digest
				case 0x0102, 0x0104, 0x0202:
					out["SHA-512"] = digest
				}
			}
		}
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// blockAgrees says whether the contents have the digest that their signers name.
func (f *File) blockAgrees(block []byte) (bool, error) {
	want, err := digests(block[8 : len(block)-blockFoot])
	if err != nil {
		return false, err
	}
	name, hashOf := "SHA-256", sha256.New
	if want[name] == nil {
		name, hashOf = "SHA-512", sha512.New
	}
	if want[name] == nil {
		return true, nil // by a hash that is not known here: nothing is said
	}
	tail, err := io.ReadAll(io.NewSectionReader(f.r, f.dir.End, f.size-f.dir.End))
	if err != nil {
		return false, err
	}
	start := f.dir.Begin - int64(len(block))
	binary.LittleEndian.PutUint32(tail[16:], uint32(start)) // as it was before the block was put in
	var sums []byte
	chunks := uint32(0)
	for _, part := range []io.Reader{io.NewSectionReader(f.r, 0, start), io.NewSectionReader(f.r, f.dir.Begin, f.dir.End-f.dir.Begin), bytes.NewReader(tail)} {
		if sums, chunks, err = addChunks(sums, chunks, part, hashOf); err != nil {
			return false, err
		}
	}
	top := hashOf()
	_, _ = top.Write(binary.LittleEndian.AppendUint32([]byte{0x5a}, chunks))
	_, _ = top.Write(sums)
	return bytes.Equal(top.Sum(nil), want[name]), nil
}

func addChunks(sums []byte, n uint32, r io.Reader, hashOf func() hash.Hash) ([]byte, uint32, error) {
	buf := make([]byte, chunkOfAPK)
	for {
		k, err := io.ReadFull(r, buf)
		if k > 0 {
			h := hashOf()
			_, _ = h.Write(binary.LittleEndian.AppendUint32([]byte{0xa5}, uint32(k)))
			_, _ = h.Write(buf[:k])
			sums, n = h.Sum(sums), n+1
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return sums, n, nil
		}
		if err != nil {
			return nil, 0, err
		}
	}
}

// manifestAgrees says whether each file has the digest that META-INF/MANIFEST.MF names: the first signature scheme. Without one there is nothing to hold it against.
func (f *File) manifestAgrees() (bool, error) {
	m := f.named["META-INF/MANIFEST.MF"]
	if m == nil || m.UncompressedSize64 > maxJAR {
		return true, nil
	}
	raw, err := unpack(m, maxJAR)
	if err != nil {
		return false, nil //nolint:nilerr // what can't be unpacked is not what was signed
	}
	want := jarDigests(raw)
	left := int64(maxUnpacked)
	for _, file := range f.all {
		if strings.HasSuffix(file.Name, "/") || strings.HasPrefix(file.Name, "META-INF/") {
			continue
		}
		d, named := want[file.Name]
		if !named {
			return false, nil // it was added
		}
		delete(want, file.Name)
		if d.new == nil {
			continue
		}
		in, err := file.Open()
		if err != nil {
			return false, nil //nolint:nilerr // what can't be opened is not what was signed
		}
		h := d.new()
		n, err := io.Copy(h, io.LimitReader(in, left+1))
		_ = in.Close()
		if left -= n; left < 0 {
			return true, nil // more than is looked at: nothing is said
		}
		if err != nil || !bytes.Equal(h.Sum(nil), d.sum) {
			return false, nil //nolint:nilerr // the same
		}
	}
	for name := range want {
		if !strings.HasPrefix(name, "META-INF/") {
			return false, nil // it was taken away
		}
	}
	return true, nil
}

// jarDigest is the digest of one file.
type jarDigest struct {
	new func() hash.Hash // nil: by a hash that is not known here
	sum []byte
}

// jarDigests reads the sections of a JAR manifest: attributes, a line each, which may go on in lines that begin with a space; sections end with an empty line.
func jarDigests(raw []byte) map[string]jarDigest {
	out := map[string]jarDigest{}
	name, d := "", jarDigest{}
	attribute := func(line string) {
		key, value, _ := strings.Cut(line, ": ")
		switch strings.ToLower(key) {
		case "name":
			name = value
		case "sha-256-digest", "sha1-digest", "sha-512-digest":
			if sum, err := base64.StdEncoding.DecodeString(value); err == nil {
				d = jarDigest{map[string]func() hash.Hash{"sha-256-digest": sha256.New, "sha1-digest": sha1.New, "sha-512-digest": sha512.New}[strings.ToLower(key)], sum}
			}
		}
	}
	lines := bufio.NewScanner(bytes.NewReader(raw))
	lines.Buffer(nil, 64<<10)
	open := ""
	for more := true; more; {
		more = lines.Scan()
		line := strings.TrimRight(lines.Text(), "\r")
		if more && strings.HasPrefix(line, " ") {
			open += line[1:]
			continue
		}
		if open != "" {
			attribute(open)
		}
		open = line
		if !more || line == "" {
			if name != "" {
				out[name] = d
			}
			name, d, open = "", jarDigest{}, ""
		}
	}
	return out
}
