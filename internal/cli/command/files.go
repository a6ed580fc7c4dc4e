package command

import (
	"errors"
	"fmt"
	"io"
	"os"
	"time"
)

// Progress returns a reader that shows the number of bytes read from r on standard error if that is a terminal.
func (a *App) Progress(r io.Reader, what string) (io.Reader, func()) {
	file, ok := a.Err.(*os.File)
	if !ok || (&App{Out: file}).width() == 0 {
		return r, func() {}
	}
	p := &progress{r: r, w: a.Err, what: what}
	return p, func() { fmt.Fprint(a.Err, "\r\033[K") }
}

type progress struct {
	r    io.Reader
	w    io.Writer
	what string
	n    int64
	said time.Time
}

func (p *progress) Read(b []byte) (int, error) {
	n, err := p.r.Read(b)
	p.n += int64(n)
	if time.Since(p.said) > 100*time.Millisecond {
		p.said = time.Now()
		fmt.Fprintf(p.w, "\r%.1f MB %s", float64(p.n)/1e6, p.what)
	}
	return n, err
}

// Save writes everything from r to a file.
func Save(path string, r io.Reader) error {
	file, err := os.Create(path)
	if err != nil {
		return err
	}
	_, err = io.Copy(file, r)
	return errors.Join(err, file.Close())
}

// NewFile creates a file. It refuses to overwrite an existing file without force.
func NewFile(name string, mode os.FileMode, force bool) (*os.File, error) {
	flags := os.O_WRONLY | os.O_CREATE | os.O_EXCL
	if force {
		flags = os.O_WRONLY | os.O_CREATE | os.O_TRUNC
	}
	file, err := os.OpenFile(name, flags, mode)
	if errors.Is(err, os.ErrExist) {
		return nil, fmt.Errorf("%s is there already; choose another name, or say --force", name)
	}
	return file, err
}

// Open opens the file with a name; "-" is standard input.
func (a *App) Open(name string) (io.ReadCloser, error) {
	if name == "-" {
		return io.NopCloser(a.In), nil
	}
	file, err := os.Open(name)
	if err != nil {
		return nil, fmt.Errorf("the file cannot be read: %w", err)
	}
	return file, nil
}
