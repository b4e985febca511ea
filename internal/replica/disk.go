package replica

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"sentier/internal/database"
)

// The files of a machine that follows: the snapshot that it begins with, as it was signed, and the entries that have come since, a line each.
const (
	SnapshotName = "follower.snapshot"
	EntriesName  = "follower.log"
)

// disk is what a machine that follows keeps, so that it goes on from there when it starts without a line. All of it is signed: what was changed there is not
// taken.
type disk struct {
	dir     string
	keys    Keys
	entries *os.File
	count   int // of entries in the file
	since   uint64
	made    time.Time // when the snapshot was taken
}

// read reads what is kept, as far as it is what was signed. problem is what was not; nil: all of it was.
func (d *disk) read(fetch func(e *Entry) error) (c Copy, problem, err error) {
	if err := os.MkdirAll(d.dir, 0o700); err != nil {
		return c, nil, err
	}
	file, err := os.Open(filepath.Join(d.dir, SnapshotName))
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return c, nil, err
	default:
		var head Head
		c, head, problem = d.keys.ReadSnapshot(file)
		d.since, d.made = head.Seq, head.Made
		if err := file.Close(); err != nil {
			return c, nil, err
		}
	}
	if problem != nil || c.Policy == nil {
		return Copy{}, problem, d.openEntries(0) // entries are nothing without what they follow
	}
	good, problem, err := d.readEntries(&c, fetch)
	if err != nil {
		return c, problem, err
	}
	return c, problem, d.openEntries(good)
}

// readEntries brings a copy up to the last entry that is good, and tells up to where in the file that is.
func (d *disk) readEntries(c *Copy, fetch func(e *Entry) error) (good int64, problem, err error) {
	file, err := os.Open(filepath.Join(d.dir, EntriesName))
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil, nil
	}
	if err != nil {
		return 0, nil, err
	}
	defer file.Close()
	in := bufio.NewReaderSize(file, 1<<20)
	for {
		line, err := in.ReadBytes('\n')
		if err == io.EOF {
			return good, nil, nil // what has no end was cut off while it was written
		}
		if err != nil {
			return good, nil, err
		}
		e, err := d.keys.Entry(bytes.TrimSuffix(line, []byte("\n")))
		if err == nil {
			err = fetch(e)
		}
		var step Step
		if err == nil {
			step, err = c.Next(e)
		}
		if err != nil {
			return good, fmt.Errorf("%s: what comes after it is asked for again: %w", EntriesName, err), nil
		}
		*c = step.Copy
		good += int64(len(line))
		d.count++
	}
}

// openEntries opens the file of entries to be gone on with after so many bytes.
func (d *disk) openEntries(after int64) error {
	var err error
	if d.entries, err = os.OpenFile(filepath.Join(d.dir, EntriesName), os.O_CREATE|os.O_WRONLY, 0o600); err != nil {
		return err
	}
	if err := d.entries.Truncate(after); err != nil {
		return err
	}
	_, err = d.entries.Seek(after, io.SeekStart)
	return err
}

// keep keeps an entry. It is not waited for the disk: what it loses is asked for again.
func (d *disk) keep(text []byte) error {
	line := append(bytes.Clone(text), '\n')
	if _, err := d.entries.Write(line); err != nil {
		return fmt.Errorf("keep what has come: %w", database.Full(err))
	}
	d.count++
	return nil
}

// begin makes a snapshot the one that the machine begins with. The entries that are in it go.
func (d *disk) begin(take func(into *os.File) (Head, error)) (Head, error) {
	var head Head
	err := replace(filepath.Join(d.dir, SnapshotName), func(file *os.File) (err error) {
		if head, err = take(file); err == nil {
			err = file.Sync()
		}
		return err
	})
	if err != nil {
		return head, fmt.Errorf("keep the snapshot: %w", err)
	}
	d.since, d.made = head.Seq, head.Made
	return head, d.prune(head.Seq)
}

// prune lets the entries go that a snapshot has in it.
func (d *disk) prune(upTo uint64) error {
	if d.entries == nil {
		return nil
	}
	path := filepath.Join(d.dir, EntriesName)
	in, err := os.Open(path)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(path+".part", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	needed := map[string]bool{}
	count, lines := 0, bufio.NewReaderSize(in, 1<<20)
	for err == nil {
		var line []byte
		if line, err = lines.ReadBytes('\n'); err != nil {
			break
		}
		e, bad := d.keys.Entry(bytes.TrimSuffix(line, []byte("\n")))
		if bad != nil || e.Seq <= upTo {
			continue
		}
		if e.Object != nil {
			needed[e.Object.Name] = true
		}
		count++
		_, err = out.Write(line)
	}
	if err == io.EOF {
		err = os.Rename(path+".part", path)
	}
	if err != nil {
		return fmt.Errorf("keep what has come: %w", database.Full(errors.Join(err, out.Close(), remove(path+".part"))))
	}
	old := d.entries
	d.entries, d.count = out, count
	return errors.Join(old.Close(), d.dropObjects(needed))
}

// beatName is the file of the writer's last word.
const beatName = "follower.beat"

func (d *disk) keepBeat(text []byte) error {
	return replace(filepath.Join(d.dir, beatName), func(file *os.File) error {
		_, err := file.Write(text)
		return err
	})
}

// beat is the writer's last word that was kept; nothing: none was.
func (d *disk) beat() ([]byte, error) {
	text, err := os.ReadFile(filepath.Join(d.dir, beatName))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return text, err
}

// object opens an object that is kept. Its name comes from a signed entry, and is no path.
func (d *disk) object(name string) (*os.File, error) {
	if name != filepath.Base(name) {
		return nil, fmt.Errorf("%q is no name of an object", name)
	}
	return os.Open(filepath.Join(d.dir, objectsName, name))
}

// objectsName is the folder of the objects that entries need.
const objectsName = "follower.objects"

func (d *disk) putObject(name string, from io.Reader) error {
	if name != filepath.Base(name) {
		return fmt.Errorf("%q is no name of an object", name)
	}
	path := filepath.Join(d.dir, objectsName, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	err := replace(path, func(file *os.File) error {
		_, err := io.Copy(file, from)
		return err
	})
	if err != nil {
		return fmt.Errorf("keep what has come: %w", err)
	}
	return nil
}

// dropObjects lets objects go that no entry needs any more.
func (d *disk) dropObjects(needed map[string]bool) error {
	list, err := os.ReadDir(filepath.Join(d.dir, objectsName))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, file := range list {
		if !needed[file.Name()] {
			err = errors.Join(err, remove(filepath.Join(d.dir, objectsName, file.Name())))
		}
	}
	return err
}

func (d *disk) close() error {
	if d.entries == nil {
		return nil
	}
	return d.entries.Close()
}

// replace writes a file in the place of one, which stays until it is written.
func replace(path string, write func(file *os.File) error) error {
	file, err := os.OpenFile(path+".part", os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if err = errors.Join(write(file), file.Close()); err == nil {
		err = os.Rename(path+".part", path)
	}
	if err != nil {
		err = database.Full(errors.Join(err, remove(path+".part")))
	}
	return err
}

func remove(path string) error {
	if err := os.Remove(path); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}
