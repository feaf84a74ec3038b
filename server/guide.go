package server

import (
	"context"
	"io/fs"
	"net/http"
	"sync"

	"steady-compass/docs"
)

const guidePictures = "/api/guide/pictures/"

// guidePages are rendered once, when somebody first reads.
var guidePages = sync.OnceValues(func() ([]docs.Page, error) { return docs.Pages(guidePictures) })

func (s *Server) getGuide(context.Context, *none) (*body[[]docs.Page], error) {
	pages, err := guidePages()
	if err != nil {
		return nil, problem(err)
	}
	return &body[[]docs.Page]{pages}, nil
}

type pictureQuery struct {
	Name string `path:"name" maxLength:"80" pattern:"^[a-z-]+\\.png$"`
}

func (s *Server) getGuidePicture(_ context.Context, in *pictureQuery) (*picture, error) {
	raw, err := fs.ReadFile(docs.Pictures, "screenshots/"+in.Name)
	if err != nil {
		return nil, &Problem{Title: "There is no such picture", Status: http.StatusNotFound, Detail: in.Name}
	}
	return &picture{"image/png", raw}, nil
}
