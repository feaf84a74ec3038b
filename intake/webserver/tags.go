package webserver

func (c *config) readTags() {}
