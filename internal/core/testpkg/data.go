package testpkg

// The data files of a package, and the tables among them.

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"unicode/utf8"
)

const (
	maxData = 512 << 10 // bytes of a data file that a script reads
	maxRows = 500       // cases that one function may become
)

// Text reads a data file of the package.
func (p *Package) Text(name string) (string, error) {
	if !fs.ValidPath(name) {
		return "", fmt.Errorf("%q is no name of a file in the package", name)
	}
	raw, err := readFile(p.files, name, maxData)
	var big *tooBig
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "", fmt.Errorf("there is no file %s in the package", name)
	case errors.As(err, &big):
		return "", fmt.Errorf("%s is longer than %d bytes", name, maxData)
	case err != nil:
		return "", err
	case !utf8.Valid(raw):
		return "", fmt.Errorf("%s is not UTF-8", name)
	}
	return string(bytes.TrimPrefix(raw, []byte("\ufeff"))), nil
}

// JSON reads a data file that holds a JSON value (RFC 8259).
func (p *Package) JSON(name string) (any, error) {
	text, err := p.Text(name)
	if err != nil {
		return nil, err
	}
	var v any
	if err := json.Unmarshal([]byte(text), &v); err != nil {
		return nil, fmt.Errorf("%s holds no JSON value: %w", name, err)
	}
	return v, nil
}

// Rows reads a table: CSV (RFC 4180) whose first record names the columns, or a JSON list of objects.
func (p *Package) Rows(name string) ([]map[string]any, error) {
	switch path.Ext(name) {
	case ".json":
		v, err := p.JSON(name)
		if err != nil {
			return nil, err
		}
		list, ok := v.([]any)
		if !ok {
			return nil, fmt.Errorf("%s does not hold a list", name)
		}
		rows, err := asRows(list)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		return rows, nil
	case ".csv":
		text, err := p.Text(name)
		if err != nil {
			return nil, err
		}
		all, err := csv.NewReader(bytes.NewReader([]byte(text))).ReadAll()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		if len(all) == 0 {
			return nil, fmt.Errorf("%s is empty; its first line must name the columns", name)
		}
		rows := make([]map[string]any, 0, len(all)-1)
		for _, record := range all[1:] {
			r := map[string]any{}
			for i, column := range all[0] {
				r[column] = record[i]
			}
			rows = append(rows, r)
		}
		return rows, nil
	}
	return nil, fmt.Errorf("%s is no table; tables end in .csv or .json", name)
}

func asRows(list []any) ([]map[string]any, error) {
	rows := make([]map[string]any, 0, len(list))
	for i, x := range list {
		r, ok := x.(map[string]any)
		if !ok {
			return nil, fmt.Errorf("row %d is no object", i+1)
		}
		rows = append(rows, r)
	}
	return rows, nil
}

// checkData looks whether a data file can be read as a script wants it.
func (p *Package) checkData(how, name string) (err error) {
	switch how {
	case "text":
		_, err = p.Text(name)
	case "json":
		_, err = p.JSON(name)
	case "rows":
		_, err = p.Rows(name)
	}
	return err
}
