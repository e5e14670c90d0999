package appfile

// Whose certificate the code of an iOS app is signed with: from the signature at the end of its executable.
//
// loader.h of Apple's xnu (Mach-O, LC_CODE_SIGNATURE), cs_blobs.h (the blobs of a signature), RFC 5652 (CMS).

import (
	"crypto/x509"
	"encoding/asn1"
	"encoding/binary"
	"errors"
	"io"
	"time"

	"tessellant/internal/core/foreign"
)

const (
	maxExecutable = 512 << 20
	maxSignature  = 32 << 20
	maxCommands   = 4096
	maxArchs      = 8
	maxBlobs      = 64
	maxCerts      = 20

	fatMagic      = 0xcafebabe
	machO64       = 0xfeedfacf // as it is read in the file's own order
	machO32       = 0xfeedface
	codeSignature = 0x1d // LC_CODE_SIGNATURE
	superBlob     = 0xfade0cc0
	cmsBlob       = 0xfade0b01
	cmsSlot       = 0x10000
)

var errMachO = errors.New("its executable can't be read")

// signer finds the certificate that the app's code is signed with. It reads the executable, which may take a second.
func (f *File) signer(executable string) (*Signer, error) {
	z := f.named[f.bundle()+executable]
	if executable == "" || z == nil || z.UncompressedSize64 > maxExecutable {
		return nil, errMachO
	}
	in, err := z.Open()
	if err != nil {
		return nil, errMachO
	}
	defer in.Close()
	signature, err := machOSignature(in)
	if err != nil {
		return nil, err
	}
	return certificate(signature)
}

// machOSignature reads the signature of an executable as it comes. Of one for several processors it takes the first part's.
func machOSignature(in io.Reader) ([]byte, error) {
	at := int64(0)
	read := func(n int64) ([]byte, error) {
		b := make([]byte, n)
		if _, err := io.ReadFull(in, b); err != nil {
			return nil, errMachO
		}
		at += n
		return b, nil
	}
	skip := func(to int64) error {
		if to < at || to > maxExecutable {
			return errMachO
		}
		n, err := io.CopyN(io.Discard, in, to-at)
		at += n
		if err != nil {
			return errMachO
		}
		return nil
	}
	head, err := read(8)
	if err != nil {
		return nil, err
	}
	base := int64(0)
	if binary.BigEndian.Uint32(head) == fatMagic {
		n := binary.BigEndian.Uint32(head[4:])
		if n < 1 || n > maxArchs {
			return nil, errMachO
		}
		arch, err := read(20)
		if err != nil {
			return nil, err
		}
		base = int64(binary.BigEndian.Uint32(arch[8:]))
		if err := skip(base); err != nil {
			return nil, err
		}
		if head, err = read(8); err != nil {
			return nil, err
		}
	}
	rest := int64(20)
	switch binary.LittleEndian.Uint32(head) {
	case machO64:
		rest = 24
	case machO32:
	default:
		return nil, errMachO
	}
	header, err := read(rest)
	if err != nil {
		return nil, err
	}
	count, size := binary.LittleEndian.Uint32(header[8:]), int64(binary.LittleEndian.Uint32(header[12:]))
	if count > maxCommands || size > 4<<20 {
		return nil, errMachO
	}
	commands, err := read(size)
	if err != nil {
		return nil, err
	}
	for range count {
		if len(commands) < 8 {
			return nil, errMachO
		}
		kind, n := binary.LittleEndian.Uint32(commands), binary.LittleEndian.Uint32(commands[4:])
		if n < 8 || uint64(n) > uint64(len(commands)) {
			return nil, errMachO
		}
		if kind == codeSignature && n >= 16 {
			offset, size := int64(binary.LittleEndian.Uint32(commands[8:])), int64(binary.LittleEndian.Uint32(commands[12:]))
			if size > maxSignature {
				return nil, errMachO
			}
			if err := skip(base + offset); err != nil {
				return nil, err
			}
			return read(size)
		}
		commands = commands[n:]
	}
	return nil, errMachO
}

// certificate finds the signer's certificate in a signature.
func certificate(signature []byte) (*Signer, error) {
	if len(signature) < 12 || binary.BigEndian.Uint32(signature) != superBlob {
		return nil, errMachO
	}
	count := binary.BigEndian.Uint32(signature[8:])
	if count > maxBlobs {
		return nil, errMachO
	}
	for i := range int(count) {
		at := 12 + i*8
		if at+8 > len(signature) {
			return nil, errMachO
		}
		if binary.BigEndian.Uint32(signature[at:]) != cmsSlot {
			continue
		}
		offset := uint64(binary.BigEndian.Uint32(signature[at+4:]))
		if offset+8 > uint64(len(signature)) {
			return nil, errMachO
		}
		blob := signature[offset:]
		if size := uint64(binary.BigEndian.Uint32(blob[4:])); binary.BigEndian.Uint32(blob) == cmsBlob && size > 8 && size <= uint64(len(blob)) {
			return leaf(blob[8:size])
		}
	}
	return nil, errMachO
}

// leaf gives the certificate of a signed message that signs no other (RFC 5652, section 5.1: certificates).
func leaf(message []byte) (*Signer, error) {
	data, err := signedFields(message)
	if err != nil {
		return nil, err
	}
	for _, field := range data {
		if field.Class != asn1.ClassContextSpecific || field.Tag != 0 {
			continue
		}
		all, err := fields(field, maxCerts)
		if err != nil {
			return nil, err
		}
		for _, one := range all {
			if c, err := x509.ParseCertificate(one.FullBytes); err == nil && !c.IsCA {
				return &Signer{Name: foreign.Name(c.Subject.CommonName, 200), Expires: c.NotAfter.UTC().Truncate(time.Second)}, nil
			}
		}
	}
	return nil, errCMS
}
