package source

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"

	"golang.org/x/mod/sumdb"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
)

// sums asks a checksum database through the module proxy (Go Modules Reference,
// "Checksum database": /sumdb/NAME/…). With the database's key every answer is
// checked against its signed tree; with the name alone the proxy's word is taken,
// and the lock holds it to that word from then on.
type sums struct {
	name, key string
	read      func(ctx context.Context, path string) ([]byte, error)
	notes     *fetch.Client // remembers the sums that were checked

	mu     sync.Mutex
	config map[string][]byte
	tiles  map[string][]byte
}

// lookup gives the h1 digest of a module's zip, or "" when there is no database.
func (s *sums) lookup(ctx context.Context, modulePath, v string) (fetch.Digest, error) {
	if s.name == "" {
		return "", nil
	}
	fact := strings.Join([]string{"sum", s.name, s.key, modulePath, v}, " ")
	if digest := fetch.Digest(s.notes.NoteOf(fact)); digest.Check() == nil {
		return digest, nil
	}
	var lines []string
	if s.key != "" {
		client := sumdb.NewClient(&sumOps{ctx, s})
		found, err := client.Lookup(modulePath, v)
		if errors.Is(err, sumdb.ErrSecurity) {
			return "", fault.New(fault.ErrSource, "the checksum database %s contradicts itself about %s %s", s.name, modulePath, v).
				Advise("Do not use this proxy before somebody has found out why.")
		}
		if err != nil {
			return "", sumError(s.name, modulePath, v, err)
		}
		lines = found
	} else {
		raw, err := s.read(ctx, "/sumdb/"+s.name+"/lookup/"+modulePath+"@"+v)
		if err != nil {
			return "", sumError(s.name, modulePath, v, err)
		}
		lines = strings.Split(string(raw), "\n")
	}
	for _, line := range lines {
		if sum, ok := strings.CutPrefix(line, modulePath+" "+v+" "); ok {
			digest := fetch.Digest(sum)
			if err := digest.Check(); err != nil {
				return "", fault.New(fault.ErrSource, "the checksum database %s: %v", s.name, err)
			}
			s.notes.KeepNote(fact, sum)
			return digest, nil
		}
	}
	return "", fault.New(fault.ErrSource, "the checksum database %s does not know %s@%s", s.name, modulePath, v)
}

func sumError(name, modulePath, v string, err error) error {
	if errors.Is(err, fault.ErrSource) {
		return err
	}
	return fault.New(fault.ErrSource, "the checksum database %s did not answer for %s@%s: %v", name, modulePath, v, err)
}

// sumOps lets the database client of x/mod read through the proxy; it keeps what
// it learns for the life of the process.
type sumOps struct {
	ctx context.Context
	s   *sums
}

func (o *sumOps) ReadRemote(path string) ([]byte, error) {
	return o.s.read(o.ctx, "/sumdb/"+o.s.name+path)
}

func (o *sumOps) ReadConfig(file string) ([]byte, error) {
	if file == "key" {
		return []byte(o.s.key), nil
	}
	o.s.mu.Lock()
	defer o.s.mu.Unlock()
	return o.s.config[file], nil // a missing "latest" is an empty tree
}

func (o *sumOps) WriteConfig(file string, old, new []byte) error {
	o.s.mu.Lock()
	defer o.s.mu.Unlock()
	if string(o.s.config[file]) != string(old) {
		return sumdb.ErrWriteConflict
	}
	if o.s.config == nil {
		o.s.config = map[string][]byte{}
	}
	o.s.config[file] = new
	return nil
}

func (o *sumOps) ReadCache(file string) ([]byte, error) {
	o.s.mu.Lock()
	defer o.s.mu.Unlock()
	if b, ok := o.s.tiles[file]; ok {
		return b, nil
	}
	return nil, fmt.Errorf("%s is not in the cache", file)
}

func (o *sumOps) WriteCache(file string, b []byte) {
	o.s.mu.Lock()
	defer o.s.mu.Unlock()
	if o.s.tiles == nil {
		o.s.tiles = map[string][]byte{}
	}
	o.s.tiles[file] = b
}

func (o *sumOps) Log(string) {}

// SecurityError needs to do nothing: the client returns sumdb.ErrSecurity as well.
func (o *sumOps) SecurityError(string) {}
