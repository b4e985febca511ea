package outbound

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"sentier/internal/policy"
)

// Secrets are the secrets of this machine. It may be used from many goroutines at once.
type Secrets struct{ Folder string } // of the files with them

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

// CheckSecret finds what is wrong with the name of a secret; nil: nothing. So no name leads out of the folder.
func CheckSecret(name string) *policy.Said {
	if policy.ValidID(name) {
		return nil
	}
	return policy.Complain("%q is no name of a secret: small letters, digits, - and .", policy.Clip(name))
}

// Secret finds a secret by its name: in a file that its owner alone may read, or in the environment. It is never kept, told or logged.
func (r Secrets) Secret(name string) (string, error) {
	if name == "" {
		return "", nil
	}
	if problem := CheckSecret(name); problem != nil {
		return "", &Error{Why: *problem}
	}
	path := filepath.Join(r.Folder, name)
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		if value := os.Getenv(Variable(name)); value != "" {
			return value, nil
		}
		return "", Fault(err, "there is no secret %q: lay it in the file %s, for the service's eyes alone, or give the service the variable %s", name, path, Variable(name))
	}
	if err != nil {
		return "", Fault(err, "the secret %q cannot be read: look at the file %s", name, path)
	}
	switch {
	case info.Mode().Perm()&0o077 != 0:
		return "", Fault(nil, "the secret %q can be read by others than the service: chmod 600 %s", name, path)
	case !info.Mode().IsRegular() || info.Size() > mostSecret:
		return "", Fault(nil, "%s is no secret of up to %d bytes", path, mostSecret)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return "", Fault(err, "the secret %q cannot be read: look at the file %s", name, path)
	}
	return strings.TrimRight(string(text), "\r\n"), nil
}
