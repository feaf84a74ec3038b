package main

import (
	"context"
	"fmt"
	"net/netip"

	"steady-compass/core/estate"
	"steady-compass/core/look"
	"steady-compass/core/model"
	"steady-compass/core/trace"
	"steady-compass/fetch"
	"steady-compass/intake"
	"steady-compass/intake/router"
)

// router asks a router for the doors that programs asked it for; where no URL says where it describes itself, at the recorded addresses of the
// router, if this machine is certain to be where the records mean.
func (c *importCommand) router(ctx context.Context, place string, files []string, e *estate.Estate) (intake.Reading, error) {
	if place == "" {
		return intake.Reading{}, wrong("whose mappings they are is not said; expected --place ROUTER, a recorded router")
	}
	if len(files) > 1 {
		return intake.Reading{}, wrong("%d routers at a time; expected one URL", len(files))
	}
	url := ""
	if len(files) == 1 {
		url = files[0]
	} else {
		var err error
		if url, err = searched(ctx, place, e); err != nil {
			return intake.Reading{}, wrong("%v; say where it describes itself, as http://10.40.0.1:5000/rootDesc.xml", err)
		}
	}
	answer, err := fetch.Router(ctx, url)
	if err != nil {
		return intake.Reading{}, wrong("%v", err)
	}
	return router.Read(url, place, answer, e), nil
}

// searched is where a recorded router describes itself, as it says when it is asked.
func searched(ctx context.Context, place string, e *estate.Estate) (string, error) {
	t := trace.New(model.Compile(e), "")
	p := t.Model.PlaceNamed(place)
	if p == nil || !p.Router {
		return "", fmt.Errorf("no router %q is recorded", place)
	}
	self, err := fetch.Myself()
	if err != nil {
		return "", err
	}
	standing, err := look.Stand(t, self, "")
	if err != nil {
		return "", err
	}
	if !standing.Certain {
		return "", fmt.Errorf("nothing says for certain that this machine is in a network of %s (%s)", place, standing.Why)
	}
	var at []netip.Addr
	for i := range p.Attachments {
		if p.Attachments[i].Net != model.Internet {
			at = append(at, p.Attachments[i].Addrs...)
		}
	}
	for _, a := range at {
		if url, err := fetch.SearchRouter(ctx, a); err == nil {
			return url, nil
		}
	}
	return "", fmt.Errorf("%s does not say where it describes itself", place)
}
