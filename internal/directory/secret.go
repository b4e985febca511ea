package directory

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"sentier/internal/policy"
	"sentier/internal/source"
)

// Reader reads directories with the secrets of this machine. It may be used from many goroutines at once.
type Reader struct{ Folder string } // of the files with secrets

// Read reads all people and groups of a directory; see [Settings.Read].
func (r Reader) Read(ctx context.Context, from source.Directory) (*source.Held, error) {
	secret, err := r.Secret(from.Secret)
	if err != nil {
		return nil, err
	}
	return Settings(from).Read(ctx, secret)
}

// SignIn tells whether a password is that of an entry; see [Settings.Prove].
func (r Reader) SignIn(ctx context.Context, at source.Directory, place, password string) error {
	return Settings(at).Prove(ctx, place, password)
}

const mostSecret = 4096 // bytes

// Variable is the variable of the environment that may hold a secret.
func Variable(name string) string {
	return "SENTIER_SECRET_" + strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z':
			return r - 'a' + 'A'
		case r >= '0' && r <= '9':
			return r
		}
		return '_'
	}, name)
}

// Secret finds a secret by its name: in a file that its owner alone may read, or in the environment. It is never kept, told or logged.
func (r Reader) Secret(name string) (string, error) {
	if name == "" {
		return "", nil
	}
	if !policy.ValidID(name) { // so that no name leads out of the folder
		return "", fault(nil, "%q is no name of a secret: small letters, digits, - and .", name)
	}
	path := filepath.Join(r.Folder, name)
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		if value := os.Getenv(Variable(name)); value != "" {
			return value, nil
		}
		return "", fault(err, "there is no secret %q: lay it in the file %s, for the service's eyes alone, or give the service the variable %s", name, path, Variable(name))
	}
	if err != nil {
		return "", fault(err, "the secret %q cannot be read: look at the file %s", name, path)
	}
	switch {
	case info.Mode().Perm()&0o077 != 0:
		return "", fault(nil, "the secret %q can be read by others than the service: chmod 600 %s", name, path)
	case !info.Mode().IsRegular() || info.Size() > mostSecret:
		return "", fault(nil, "%s is no secret of up to %d bytes", path, mostSecret)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return "", fault(err, "the secret %q cannot be read: look at the file %s", name, path)
	}
	return strings.TrimRight(string(text), "\r\n"), nil
}
