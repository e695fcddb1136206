package container

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os/exec"
	"strings"
	"time"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/api/types/image"
	"github.com/moby/moby/client"

	"hemzo/internal/fault"
)

// Pulling tells how a pull goes on: one layer of an image.
type Pulling struct {
	Image, Layer, Status string
	Done, Of             int64 // bytes; 0 where unknown
}

// silence is how long a registry may say nothing before a pull is given up.
const silence = 30 * time.Second

// Have makes sure that an image is there: it is pulled where it is not.
func (e *Engine) Have(ctx context.Context, name string, progress func(Pulling)) error {
	_, err := e.have(ctx, name, progress)
	return err
}

// have returns an image that is there, pulling it where it is not.
func (e *Engine) have(ctx context.Context, name string, progress func(Pulling)) (image.InspectResponse, error) {
	found, err := e.client.ImageInspect(ctx, name)
	if err == nil {
		return found.InspectResponse, nil
	}
	if !errdefs.IsNotFound(err) {
		return image.InspectResponse{}, fmt.Errorf("looking for the image %s: %w", name, err)
	}
	if err := e.pull(ctx, name, progress); err != nil {
		return image.InspectResponse{}, err
	}
	found, err = e.client.ImageInspect(ctx, name)
	if err != nil {
		return image.InspectResponse{}, fmt.Errorf("looking for the image %s: %w", name, err)
	}
	return found.InspectResponse, nil
}

func (e *Engine) pull(ctx context.Context, name string, progress func(Pulling)) error {
	failed := func(err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		f := fault.New(fault.Lacking, "docker load an archive of it, or name another with  image:",
			"the image %s is not there, and it cannot be pulled from %s", withTag(name), Registry(name))
		if err != nil {
			f.Said = strings.TrimSpace(strings.TrimPrefix(err.Error(), "Error response from daemon: "))
		} else {
			f.Said = fmt.Sprintf("nothing was heard for %s", silence)
		}
		return f
	}
	pulling, stop := context.WithCancel(ctx)
	defer stop()
	watch := time.AfterFunc(silence, stop)
	defer watch.Stop()
	progress(Pulling{Image: name, Status: "asking " + Registry(name)})
	response, err := e.client.ImagePull(pulling, withTag(name),
		client.ImagePullOptions{RegistryAuth: auth(Registry(name))})
	if err != nil {
		if pulling.Err() != nil {
			err = nil
		}
		return failed(err)
	}
	defer response.Close()
	for m, err := range response.JSONMessages(pulling) {
		if err != nil {
			if pulling.Err() != nil {
				err = nil
			}
			return failed(err)
		}
		if m.Error != nil {
			return failed(m.Error)
		}
		watch.Reset(silence)
		p := Pulling{Image: name, Layer: m.ID, Status: m.Status}
		if m.Progress != nil {
			p.Done, p.Of = m.Progress.Current, m.Progress.Total
		}
		progress(p)
	}
	return nil
}

// withTag adds the tag that a name without one means: asked without any, an
// engine pulls all that there are.
func withTag(name string) string {
	last := name[strings.LastIndex(name, "/")+1:]
	if strings.Contains(last, ":") || strings.Contains(last, "@") {
		return name
	}
	return name + ":latest"
}

// Registry is the machine that an image is pulled from.
func Registry(name string) string {
	first, _, ok := strings.Cut(name, "/")
	if ok && (strings.ContainsAny(first, ".:") || first == "localhost") {
		return first
	}
	return "docker.io"
}

// auth returns the credentials that the engine's own configuration file has
// for a registry, in the form that the API wants; "" where it has none.
func auth(registry string) string {
	c := configuration()
	server := registry
	if registry == "docker.io" {
		server = "https://index.docker.io/v1/"
	}
	var found struct {
		Username      string `json:"username,omitempty"`
		Password      string `json:"password,omitempty"`
		IdentityToken string `json:"identitytoken,omitempty"`
		ServerAddress string `json:"serveraddress,omitempty"`
	}
	found.ServerAddress = server
	helper := c.CredHelpers[registry]
	if helper == "" {
		helper = c.CredsStore
	}
	if a, ok := c.Auths[server]; ok && a.Auth != "" {
		plain, err := base64.StdEncoding.DecodeString(a.Auth)
		if err != nil {
			return ""
		}
		found.Username, found.Password, _ = strings.Cut(string(plain), ":")
		found.IdentityToken = a.IdentityToken
	} else if helper != "" {
		cmd := exec.Command("docker-credential-"+helper, "get")
		cmd.Stdin = strings.NewReader(server)
		out, err := cmd.Output()
		var got struct{ Username, Secret string }
		if err != nil || json.Unmarshal(out, &got) != nil {
			return ""
		}
		if found.Username, found.Password = got.Username, got.Secret; got.Username == "<token>" {
			found.Username, found.Password, found.IdentityToken = "", "", got.Secret
		}
	} else {
		return ""
	}
	b, _ := json.Marshal(found)
	return base64.URLEncoding.EncodeToString(b)
}
