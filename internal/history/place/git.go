package place

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/config"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/plumbing/transport"
	"github.com/go-git/go-git/v5/plumbing/transport/http"
	gitssh "github.com/go-git/go-git/v5/plumbing/transport/ssh"
	"github.com/go-git/go-git/v5/storage/memory"
	"golang.org/x/crypto/ssh"
)

// Commit is one version on its way into a repository.
type Commit struct {
	ID      string // ends the message, as a trailer, so that nothing is committed twice
	Path    string
	Text    string
	Message string
	Author  string
	At      time.Time
}

// Repository is a Git repository that takes commits. Nothing of it touches a disk here: what it
// holds is text that belongs elsewhere.
type Repository struct {
	w    Way
	auth transport.AuthMethod
	*git.Repository
	branch plumbing.ReferenceName
	head   *object.Commit // nil: the repository is empty
}

// trailer begins the line of a message that names the version.
const trailer = "Magpie-Version: "

// OpenGit reaches a repository and fetches its newest commit.
func OpenGit(ctx context.Context, w Way) (*Repository, error) {
	if err := w.Sound(); err != nil {
		return nil, err
	}
	r := &Repository{w: w, branch: "refs/heads/main"}
	var err error
	if r.auth, err = w.gitAuth(); err != nil {
		return nil, err
	}
	if r.Repository, err = git.Init(memory.NewStorage(), nil); err != nil {
		return nil, err
	}
	remote, err := r.CreateRemote(&config.RemoteConfig{Name: "origin", URLs: []string{w.Where}})
	if err != nil {
		return nil, err
	}
	no := func(err error) (*Repository, error) {
		return nil, fmt.Errorf("repository %s: %w", w.Where, gitCause(err))
	}
	refs, err := remote.ListContext(ctx, &git.ListOptions{Auth: r.auth, CABundle: []byte(w.CA)})
	if errors.Is(err, transport.ErrEmptyRemoteRepository) {
		return r, nil
	}
	if err != nil {
		return no(err)
	}
	var there []plumbing.ReferenceName
	for _, ref := range refs {
		if ref.Name() == plumbing.HEAD && ref.Type() == plumbing.SymbolicReference {
			r.branch = ref.Target()
		} else if ref.Name().IsBranch() {
			there = append(there, ref.Name())
		}
	}
	if !slices.Contains(there, r.branch) { // a repository whose HEAD names a branch that nobody made
		if r.branch = "refs/heads/main"; !slices.Contains(there, r.branch) {
			return r, nil
		}
	}
	spec := config.RefSpec("+" + string(r.branch) + ":" + string(r.branch))
	if err := remote.FetchContext(ctx, &git.FetchOptions{RefSpecs: []config.RefSpec{spec}, Depth: 1, Auth: r.auth, Tags: git.NoTags, CABundle: []byte(w.CA)}); err != nil {
		return no(err)
	}
	head, err := r.Reference(r.branch, true)
	if err != nil {
		return no(err)
	}
	r.head, err = r.CommitObject(head.Hash())
	return r, err
}

func gitCause(err error) error {
	var key *HostKeyError
	if errors.As(err, &key) {
		return key
	}
	return err
}

func (w Way) gitAuth() (transport.AuthMethod, error) {
	u, err := url.Parse(w.Where)
	if err != nil {
		return nil, err
	}
	switch {
	case w.ssh():
		c, err := w.sshConfig(u)
		if err != nil {
			return nil, err
		}
		return sshAuth{gitssh.HostKeyCallbackHelper{HostKeyCallback: c.HostKeyCallback}, c}, nil
	case w.User != "":
		return &http.BasicAuth{Username: w.User, Password: w.Password}, nil
	}
	return nil, nil
}

// Last is the id of the version that was committed last; empty: none was.
func (r *Repository) Last() string {
	if r.head == nil {
		return ""
	}
	for _, line := range slices.Backward(strings.Split(strings.TrimSpace(r.head.Message), "\n")) {
		if id, ok := strings.CutPrefix(line, trailer); ok {
			return id
		}
	}
	return ""
}

// Add commits, in their order, and pushes: all of it arrives, or nothing.
func (r *Repository) Add(ctx context.Context, all []Commit) error {
	at := r.head
	for _, c := range all {
		next, err := r.commit(at, c)
		if err != nil {
			return fmt.Errorf("%s: %w", c.Path, err)
		}
		at = next
	}
	if at == r.head || at == nil {
		return nil
	}
	if err := r.Storer.SetReference(plumbing.NewHashReference(r.branch, at.Hash)); err != nil {
		return err
	}
	spec := config.RefSpec(string(r.branch) + ":" + string(r.branch))
	err := r.PushContext(ctx, &git.PushOptions{RemoteName: "origin", RefSpecs: []config.RefSpec{spec}, Auth: r.auth, CABundle: []byte(r.w.CA)})
	if err != nil && !errors.Is(err, git.NoErrAlreadyUpToDate) {
		return fmt.Errorf("repository %s: %w", r.w.Where, gitCause(err))
	}
	r.head = at
	return nil
}

// commit makes a commit that puts one file into the tree of another commit.
func (r *Repository) commit(on *object.Commit, c Commit) (*object.Commit, error) {
	blob := r.Storer.NewEncodedObject()
	blob.SetType(plumbing.BlobObject)
	w, err := blob.Writer()
	if err != nil {
		return nil, err
	}
	if _, err := w.Write([]byte(c.Text)); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	file, err := r.Storer.SetEncodedObject(blob)
	if err != nil {
		return nil, err
	}
	var tree *object.Tree
	var parents []plumbing.Hash
	if on != nil {
		parents = []plumbing.Hash{on.Hash}
		if tree, err = on.Tree(); err != nil {
			return nil, err
		}
	}
	root, err := r.with(tree, strings.Split(c.Path, "/"), file)
	if err != nil {
		return nil, err
	}
	out := &object.Commit{
		Author:    object.Signature{Name: c.Author, Email: c.Author + "@magpie.invalid", When: c.At.UTC()},
		Committer: object.Signature{Name: "Steady Magpie", Email: "service@magpie.invalid", When: c.At.UTC()},
		Message:   strings.TrimSpace(c.Message) + "\n\n" + trailer + c.ID + "\n", TreeHash: root, ParentHashes: parents,
	}
	raw := r.Storer.NewEncodedObject()
	if err := out.Encode(raw); err != nil {
		return nil, err
	}
	hash, err := r.Storer.SetEncodedObject(raw)
	if err != nil {
		return nil, err
	}
	return r.CommitObject(hash)
}

// with is a tree in which a path leads to another file.
func (r *Repository) with(tree *object.Tree, path []string, file plumbing.Hash) (plumbing.Hash, error) {
	out := &object.Tree{}
	var below *object.Tree
	if tree != nil {
		for _, e := range tree.Entries {
			if e.Name != path[0] {
				out.Entries = append(out.Entries, e)
			} else if e.Mode == filemode.Dir && len(path) > 1 {
				var err error
				if below, err = r.TreeObject(e.Hash); err != nil {
					return plumbing.ZeroHash, err
				}
			}
		}
	}
	entry := object.TreeEntry{Name: path[0], Mode: filemode.Regular, Hash: file}
	if len(path) > 1 {
		hash, err := r.with(below, path[1:], file)
		if err != nil {
			return plumbing.ZeroHash, err
		}
		entry.Mode, entry.Hash = filemode.Dir, hash
	}
	out.Entries = append(out.Entries, entry)
	slices.SortFunc(out.Entries, func(a, b object.TreeEntry) int { return strings.Compare(sortName(a), sortName(b)) })
	raw := r.Storer.NewEncodedObject()
	if err := out.Encode(raw); err != nil {
		return plumbing.ZeroHash, err
	}
	return r.Storer.SetEncodedObject(raw)
}

// sortName is how Git sorts the entries of a tree: folders as if a slash ended them.
func sortName(e object.TreeEntry) string {
	if e.Mode == filemode.Dir {
		return e.Name + "/"
	}
	return e.Name
}

// sshAuth signs in to a Git server as to any other by SSH.
type sshAuth struct {
	gitssh.HostKeyCallbackHelper
	config *ssh.ClientConfig
}

func (sshAuth) Name() string     { return "ssh" }
func (a sshAuth) String() string { return "ssh as " + a.config.User }

// ClientConfig is what go-git asks for.
func (a sshAuth) ClientConfig() (*ssh.ClientConfig, error) { return a.config, nil }
