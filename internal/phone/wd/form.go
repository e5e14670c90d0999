package wd

// A build on its way to a lab: as the body itself, or as a part of a form (RFC 7578), never as a whole in memory.

import (
	"cmp"
	"io"
	"mime/multipart"

	"tessellant/internal/core/labfile"
)

func (e *Endpoint) form(u *labfile.Upload, v labfile.Values, file io.Reader) (body io.Reader, kind string, err error) {
	if u.Part == "" {
		return file, "application/octet-stream", nil
	}
	fields := make([]string, len(u.Fields))
	for i, f := range u.Fields {
		if fields[i], err = f.Value.Make(v); err != nil {
			return nil, "", e.masked(err)
		}
	}
	out, in := io.Pipe()
	w := multipart.NewWriter(in)
	go func() {
		_ = in.CloseWithError(func() error {
			for i, f := range u.Fields {
				if err := w.WriteField(f.Name, fields[i]); err != nil {
					return err
				}
			}
			part, err := w.CreateFormFile(u.Part, cmp.Or(v.App.File, "build"))
			if err != nil {
				return err
			}
			if _, err := io.Copy(part, file); err != nil {
				return err
			}
			return w.Close()
		}())
	}()
	return out, w.FormDataContentType(), nil
}
