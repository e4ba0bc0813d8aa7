package checkout

import (
	"os/exec"
	"path/filepath"
	"strings"
	"sync"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing/storer"
	"github.com/go-git/go-git/v5/plumbing/transport"
	"github.com/go-git/go-git/v5/plumbing/transport/client"
	"github.com/go-git/go-git/v5/plumbing/transport/server"
)

// local serves repositories on this computer. The library runs the program git for these, which need not be there; its own server knows no shallow clones.
type local struct{}

// Load opens the repository that an address names.
func (local) Load(at *transport.Endpoint) (storer.Storer, error) {
	r, err := git.PlainOpen(filepath.FromSlash(at.Path))
	if err != nil {
		return nil, transport.ErrRepositoryNotFound
	}
	return r.Storer, nil
}

var installLocal = sync.OnceFunc(func() { client.InstallProtocol("file", server.NewClient(local{})) })

// servesItself reports whether a repository is on this computer, where there is no program git to serve it.
func servesItself(url string) bool {
	if !strings.HasPrefix(url, "file://") {
		return false
	}
	if _, err := exec.LookPath("git"); err == nil {
		return false
	}
	installLocal()
	return true
}
