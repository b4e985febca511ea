package database

import (
	"errors"
	"os"
	"path/filepath"
)

// PassingPrefix begins the names of what lies in a folder for a while alone, such as a copy that is being sent. What is left of it by a process that was killed
// is taken away with the next start.
const PassingPrefix = ".sentier-"

// NewFile makes a file that is not there, for its owner alone. It has its name once all of it is on the disk: nobody ever finds a part of it, however the process
// ends. The error is [io/fs.ErrExist] where there is one already.
func NewFile(path string, text []byte) error {
	file, err := os.CreateTemp(filepath.Dir(path), PassingPrefix+"new-*") // for its owner alone
	if err != nil {
		return err
	}
	_, err = file.Write(text)
	if err = errors.Join(err, file.Sync(), file.Close()); err == nil {
		err = os.Link(file.Name(), path)
	}
	return errors.Join(err, os.Remove(file.Name()))
}

// OwnersAlone makes a file of SQLite its owner's alone from its first byte, with what SQLite lays beside it, which takes the file's mode: whatever the
// folder's mode is, and the umask. One that is there already is put right.
func OwnersAlone(path string) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if err := errors.Join(file.Chmod(0o600), file.Close()); err != nil {
		return err
	}
	for _, beside := range []string{"-wal", "-shm", "-journal"} {
		if err := os.Chmod(path+beside, 0o600); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return nil
}
