package standin

import (
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/go-git/go-billy/v5/memfs"
	"github.com/go-git/go-billy/v5/util"
	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/format/pktline"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/plumbing/protocol/packp"
	"github.com/go-git/go-git/v5/plumbing/transport"
	"github.com/go-git/go-git/v5/plumbing/transport/server"
	"github.com/go-git/go-git/v5/storage/memory"
)

// Git is a repository on a loopback server that speaks git's smart protocol over
// HTTP (gitprotocol-http(5)). It serves whole histories only, as old servers do.
type Git struct {
	URL string

	http    *httptest.Server
	storage *memory.Storage
	work    *git.Worktree

	mu    sync.Mutex
	asked int
}

// NewGit starts a server with an empty repository. Close ends it.
func NewGit() *Git {
	g := &Git{storage: memory.NewStorage()}
	repository, err := git.InitWithOptions(g.storage, memfs.New(), git.InitOptions{DefaultBranch: "refs/heads/main"})
	must(err)
	g.work, err = repository.Worktree()
	must(err)
	g.http = httptest.NewServer(http.HandlerFunc(g.serve))
	g.URL = "git+" + g.http.URL + "/heronweir.git"
	return g
}

// Close ends the server.
func (g *Git) Close() { g.http.Close() }

// Asked counts the requests so far.
func (g *Git) Asked() int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.asked
}

// Commit writes files, commits them on main and returns the commit's id. A tag is
// set when one is named.
func (g *Git) Commit(tag string, files ...File) string {
	for _, f := range files {
		if f.Link != "" {
			must(g.work.Filesystem.Symlink(f.Link, f.Name))
		} else {
			mode := 0o644
			if f.Mode != 0 {
				mode = int(f.Mode)
			}
			must(util.WriteFile(g.work.Filesystem, f.Name, []byte(f.Content), os.FileMode(mode)))
		}
		_, err := g.work.Add(f.Name)
		must(err)
	}
	who := &object.Signature{Name: "hut-laptop", Email: "hut-laptop@heronweir.example", When: time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)}
	id, err := g.work.Commit("a change", &git.CommitOptions{Author: who, AllowEmptyCommits: true})
	must(err)
	if tag != "" {
		must(g.storage.SetReference(plumbing.NewHashReference(plumbing.NewTagReferenceName(tag), id)))
	}
	return id.String()
}

// RawEntry is an entry of a tree as it is written, whatever git itself would say of it.
type RawEntry struct {
	Mode    string // 100644, 100755, 120000 (a link to Content), 160000 (a commit), 40000
	Name    string
	Content string
	Tree    []RawEntry // of a folder
}

// CommitRaw puts a commit on main whose tree holds entries just as they are, and returns
// its id: a repository as somebody could make it who wishes ill.
func (g *Git) CommitRaw(entries ...RawEntry) string {
	store := func(kind plumbing.ObjectType, raw []byte) plumbing.Hash {
		o := g.storage.NewEncodedObject()
		o.SetType(kind)
		w, err := o.Writer()
		must(err)
		_, err = w.Write(raw)
		must(err)
		must(w.Close())
		id, err := g.storage.SetEncodedObject(o)
		must(err)
		return id
	}
	var tree func(entries []RawEntry) plumbing.Hash
	tree = func(entries []RawEntry) plumbing.Hash {
		var raw []byte
		for _, e := range entries {
			var id plumbing.Hash
			switch {
			case e.Mode == "40000":
				id = tree(e.Tree)
			default:
				id = store(plumbing.BlobObject, []byte(e.Content))
			}
			raw = append(append(append(raw, e.Mode+" "+e.Name...), 0), id[:]...)
		}
		return store(plumbing.TreeObject, raw)
	}
	const who = "hut-laptop <hut-laptop@heronweir.example> 1772366400 +0000"
	id := store(plumbing.CommitObject, []byte("tree "+tree(entries).String()+"\nauthor "+who+"\ncommitter "+who+"\n\na change\n"))
	must(g.storage.SetReference(plumbing.NewHashReference("refs/heads/main", id)))
	return id.String()
}

func (g *Git) serve(w http.ResponseWriter, r *http.Request) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.asked++
	end, err := transport.NewEndpoint("http://heronweir.example/heronweir.git")
	must(err)
	session, err := server.NewServer(server.MapLoader{end.String(): g.storage}).NewUploadPackSession(end, nil)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	defer session.Close()
	fail := func(err error) { http.Error(w, err.Error(), http.StatusInternalServerError) }
	switch {
	case r.Method == http.MethodGet && strings.HasSuffix(r.URL.Path, "/heronweir.git/info/refs"):
		refs, err := session.AdvertisedReferencesContext(r.Context())
		if err != nil {
			fail(err)
			return
		}
		refs.Prefix = [][]byte{[]byte("# service=git-upload-pack"), pktline.Flush}
		w.Header().Set("Content-Type", "application/x-git-upload-pack-advertisement")
		_ = refs.Encode(w)
	case r.Method == http.MethodPost && strings.HasSuffix(r.URL.Path, "/heronweir.git/git-upload-pack"):
		ask := packp.NewUploadPackRequest()
		if err := ask.Decode(r.Body); err != nil {
			fail(err)
			return
		}
		_, _ = io.Copy(io.Discard, r.Body)
		answer, err := session.UploadPack(r.Context(), ask)
		if err != nil {
			fail(err)
			return
		}
		w.Header().Set("Content-Type", "application/x-git-upload-pack-result")
		_ = answer.Encode(w)
	default:
		http.NotFound(w, r)
	}
}
