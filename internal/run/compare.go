package run

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"magpie/client"
	"magpie/dialects"
	"magpie/internal/api"
	"magpie/internal/core/diff"
	"magpie/internal/core/ref"
	"magpie/internal/dialect"
	"magpie/internal/read"

	"golang.org/x/sync/errgroup"
)

// FileDialect is how a part's files are read: by a dialect that ships, by its name, or by one in a
// file. An empty part is the dialect's main one.
func FileDialect(name, part string) (*dialect.Doc, error) {
	var raw []byte
	var err error
	if strings.ContainsAny(name, "./") {
		raw, err = os.ReadFile(name)
	} else if raw, err = dialects.Files.ReadFile(name + ".yaml"); err != nil {
		var names []string
		all, _ := dialects.Files.ReadDir(".")
		for _, f := range all {
			names = append(names, strings.TrimSuffix(f.Name(), ".yaml"))
		}
		err = fmt.Errorf("no dialect %q ships%s; there are %s, and FILE.yaml names one of your own", name, ref.Meant(name, names), strings.Join(names, ", "))
	}
	if err != nil {
		return nil, err
	}
	d, err := dialect.Load(filepath.Base(name), raw)
	if err != nil {
		return nil, err
	}
	if part == "" {
		part = d.Main()
	}
	if _, is := d.PartOf(part); !is {
		return nil, fmt.Errorf("dialect %s knows no part %q; it has %s", d.Dialect, part, strings.Join(d.PartNames(), ", "))
	}
	return d.Doc(part), nil
}

// CompareFiles lays two files against each other, with so many lines of context, without a service.
// Lines that change by themselves are left out and counted, unless all are wanted.
func CompareFiles(from, to read.File, context int, all bool) (client.Diff, error) {
	c, err := read.CompareFiles(from, to, context, all)
	if err != nil {
		return client.Diff{}, err
	}
	return api.WireDiff(c, false), nil
}

// Files reads two files that no dialect reads side by side, and makes them ready to be compared.
func Files(one, other string) (from, to read.File, x, y diff.Text, err error) {
	var both errgroup.Group
	prepare := func(path string, f *read.File, t *diff.Text) {
		both.Go(func() (err error) {
			if *f, err = File(path, nil); err == nil {
				*t = diff.Split(f.Content)
				t.Hash()
			}
			return err
		})
	}
	prepare(one, &from, &x)
	prepare(other, &to, &y)
	return from, to, x, y, both.Wait()
}

// mostCompared is how large a file can be that is compared.
const mostCompared = 1<<31 - 2

// File reads a file to be compared, as doc says.
func File(path string, doc *dialect.Doc) (f read.File, err error) {
	info, err := os.Stat(path)
	if err == nil && info.IsDir() {
		err = fmt.Errorf("%s is a folder; name a file in it", path)
	}
	if err != nil {
		return f, err
	}
	if info.Size() > mostCompared {
		return f, fmt.Errorf("%s has %d bytes; files of up to %d are compared", path, info.Size(), mostCompared)
	}
	in, err := os.Open(path)
	if err != nil {
		return f, err
	}
	defer in.Close()
	var text strings.Builder // what is read becomes the text, and is not copied once more
	text.Grow(int(info.Size()))
	_, err = io.Copy(&text, io.LimitReader(in, mostCompared))
	return read.File{Name: path, Content: text.String(), At: info.ModTime(), Doc: doc}, err
}
