-- One table a kind of record, as core/estate declares them; lists in tables of their own.
-- References between records are by name and free: what they name may not be there yet.
-- rank is a record's place in its kind; comments are the comment lines above it.

-- +goose Up
CREATE TABLE kind_estate (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "name" TEXT NOT NULL,
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;

CREATE TABLE kind_network (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "name" TEXT NOT NULL,
    "host" TEXT,
    "routed" INTEGER NOT NULL DEFAULT 0 CHECK ("routed" IN (0, 1)),
    "filtered" INTEGER NOT NULL DEFAULT 0 CHECK ("filtered" IN (0, 1)),
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;
CREATE TABLE kind_network_cidrs (
    record   INTEGER NOT NULL REFERENCES kind_network (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;

CREATE TABLE kind_host (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "name" TEXT NOT NULL,
    "router" INTEGER NOT NULL DEFAULT 0 CHECK ("router" IN (0, 1)),
    "outside" INTEGER NOT NULL DEFAULT 0 CHECK ("outside" IN (0, 1)),
    "unlisted" INTEGER NOT NULL DEFAULT 0 CHECK ("unlisted" IN (0, 1)),
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;

CREATE TABLE kind_address (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "held" TEXT NOT NULL,
    "network" TEXT NOT NULL,
    "dynamic" INTEGER NOT NULL DEFAULT 0 CHECK ("dynamic" IN (0, 1)),
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;
CREATE TABLE kind_address_hosts (
    record   INTEGER NOT NULL REFERENCES kind_address (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;

CREATE TABLE kind_route (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "host" TEXT NOT NULL,
    "destination" TEXT NOT NULL,
    "via" TEXT NOT NULL,
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;

CREATE TABLE kind_group (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "name" TEXT NOT NULL,
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;
CREATE TABLE kind_group_members (
    record   INTEGER NOT NULL REFERENCES kind_group (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;

CREATE TABLE kind_zone (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "name" TEXT NOT NULL,
    "ttl" INTEGER CHECK ("ttl" >= 0),
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;
CREATE TABLE kind_zone_askers (
    record   INTEGER NOT NULL REFERENCES kind_zone (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;
CREATE TABLE kind_zone_without (
    record   INTEGER NOT NULL REFERENCES kind_zone (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;

CREATE TABLE kind_dns (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "owner" TEXT NOT NULL,
    "type" TEXT NOT NULL,
    "value" TEXT,
    "dynamic" TEXT,
    "every" INTEGER CHECK ("every" >= 0),
    "ttl" INTEGER CHECK ("ttl" >= 0),
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;
CREATE TABLE kind_dns_askers (
    record   INTEGER NOT NULL REFERENCES kind_dns (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;

CREATE TABLE kind_name (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "hostname" TEXT NOT NULL,
    "address" TEXT NOT NULL,
    "place" TEXT NOT NULL,
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;

CREATE TABLE kind_forward (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "router" TEXT NOT NULL,
    "bind" TEXT NOT NULL,
    "target" TEXT NOT NULL,
    "inside" INTEGER NOT NULL DEFAULT 0 CHECK ("inside" IN (0, 1)),
    "hairpin" INTEGER NOT NULL DEFAULT 0 CHECK ("hairpin" IN (0, 1)),
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;
CREATE TABLE kind_forward_sources (
    record   INTEGER NOT NULL REFERENCES kind_forward (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;

CREATE TABLE kind_outbound (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "router" TEXT NOT NULL,
    "leaving" TEXT,
    "rewritten" TEXT NOT NULL,
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;
CREATE TABLE kind_outbound_sources (
    record   INTEGER NOT NULL REFERENCES kind_outbound (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;

CREATE TABLE kind_filter (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "name" TEXT NOT NULL,
    "hook" TEXT NOT NULL CHECK ("hook" IN ('arriving', 'input', 'through', 'output', 'departing')),
    "otherwise" TEXT NOT NULL CHECK ("otherwise" IN ('pass', 'drop', 'refuse')),
    "family" TEXT CHECK ("family" IN ('ipv4', 'ipv6')),
    "drop_wins" INTEGER NOT NULL DEFAULT 0 CHECK ("drop_wins" IN (0, 1)),
    "stateless" INTEGER NOT NULL DEFAULT 0 CHECK ("stateless" IN (0, 1)),
    "loopback_too" INTEGER NOT NULL DEFAULT 0 CHECK ("loopback_too" IN (0, 1)),
    "guards_containers" INTEGER NOT NULL DEFAULT 0 CHECK ("guards_containers" IN (0, 1)),
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;
CREATE TABLE kind_filter_machines (
    record   INTEGER NOT NULL REFERENCES kind_filter (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;

CREATE TABLE kind_rule (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "filter" TEXT NOT NULL,
    "action" TEXT NOT NULL CHECK ("action" IN ('pass', 'drop', 'refuse')),
    "ports" TEXT NOT NULL,
    "entering" TEXT,
    "leaving" TEXT,
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;
CREATE TABLE kind_rule_sources (
    record   INTEGER NOT NULL REFERENCES kind_rule (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;
CREATE TABLE kind_rule_destinations (
    record   INTEGER NOT NULL REFERENCES kind_rule (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;

CREATE TABLE kind_container (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "name" TEXT NOT NULL,
    "shares_host" INTEGER NOT NULL DEFAULT 0 CHECK ("shares_host" IN (0, 1)),
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;
CREATE TABLE kind_container_networks (
    record   INTEGER NOT NULL REFERENCES kind_container (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;
CREATE TABLE kind_container_aliases (
    record   INTEGER NOT NULL REFERENCES kind_container (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;

CREATE TABLE kind_map (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "container" TEXT NOT NULL,
    "bind" TEXT NOT NULL,
    "inner" TEXT NOT NULL,
    "no_relay" INTEGER NOT NULL DEFAULT 0 CHECK ("no_relay" IN (0, 1)),
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;

CREATE TABLE kind_listen (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "place" TEXT NOT NULL,
    "bind" TEXT NOT NULL,
    "service" TEXT NOT NULL,
    "tls" INTEGER NOT NULL DEFAULT 0 CHECK ("tls" IN (0, 1)),
    "passthrough" INTEGER NOT NULL DEFAULT 0 CHECK ("passthrough" IN (0, 1)),
    "first_answers" INTEGER NOT NULL DEFAULT 0 CHECK ("first_answers" IN (0, 1)),
    "shared" INTEGER NOT NULL DEFAULT 0 CHECK ("shared" IN (0, 1)),
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;
CREATE TABLE kind_listen_certs (
    record   INTEGER NOT NULL REFERENCES kind_listen (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;

CREATE TABLE kind_tunnel (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "name" TEXT NOT NULL,
    "place" TEXT NOT NULL,
    "target" TEXT NOT NULL,
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;

CREATE TABLE kind_site (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "service" TEXT NOT NULL,
    "bind" TEXT,
    "path" TEXT,
    "target" TEXT,
    "redirect" TEXT,
    "files" TEXT,
    "speaking" TEXT CHECK ("speaking" IN ('http', 'https', 'tcp', 'tls', 'udp')),
    "asking" TEXT,
    "verified" INTEGER NOT NULL DEFAULT 0 CHECK ("verified" IN (0, 1)),
    "tunnel" TEXT,
    "is_default" INTEGER NOT NULL DEFAULT 0 CHECK ("is_default" IN (0, 1)),
    "guard" TEXT,
    "cert" TEXT,
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;
CREATE TABLE kind_site_names (
    record   INTEGER NOT NULL REFERENCES kind_site (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;

CREATE TABLE kind_site_sources (
    record   INTEGER NOT NULL REFERENCES kind_site (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;

CREATE TABLE kind_pool (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "name" TEXT NOT NULL,
    "turn" TEXT CHECK ("turn" IN ('in-turn', 'least-busy', 'random')),
    "sticky" INTEGER NOT NULL DEFAULT 0 CHECK ("sticky" IN (0, 1)),
    "check_port" INTEGER CHECK ("check_port" >= 0),
    "path" TEXT,
    "tls" INTEGER NOT NULL DEFAULT 0 CHECK ("tls" IN (0, 1)),
    "every" INTEGER CHECK ("every" >= 0),
    "up_after" INTEGER CHECK ("up_after" >= 0),
    "down_after" INTEGER CHECK ("down_after" >= 0),
    "within" INTEGER CHECK ("within" >= 0),
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;

CREATE TABLE kind_member (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "pool" TEXT NOT NULL,
    "endpoint" TEXT NOT NULL,
    "share" INTEGER CHECK ("share" >= 0),
    "spare" INTEGER NOT NULL DEFAULT 0 CHECK ("spare" IN (0, 1)),
    "is_out" INTEGER NOT NULL DEFAULT 0 CHECK ("is_out" IN (0, 1)),
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;

CREATE TABLE kind_cert (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "name" TEXT NOT NULL,
    "expires" TEXT NOT NULL,
    "method" TEXT CHECK ("method" IN ('http-01', 'dns-01', 'tls-alpn-01', 'hand')),
    "alone" INTEGER NOT NULL DEFAULT 0 CHECK ("alone" IN (0, 1)),
    "service" TEXT,
    "renew" INTEGER CHECK ("renew" >= 0),
    "every" INTEGER CHECK ("every" >= 0),
    "trial" INTEGER NOT NULL DEFAULT 0 CHECK ("trial" IN (0, 1)),
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;
CREATE TABLE kind_cert_hostnames (
    record   INTEGER NOT NULL REFERENCES kind_cert (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;
CREATE TABLE kind_cert_places (
    record   INTEGER NOT NULL REFERENCES kind_cert (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;

CREATE TABLE kind_intend (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "target" TEXT NOT NULL,
    "ports" TEXT NOT NULL,
    "reaching" TEXT,
    "guarded" INTEGER NOT NULL DEFAULT 0 CHECK ("guarded" IN (0, 1)),
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;
CREATE TABLE kind_intend_audience (
    record   INTEGER NOT NULL REFERENCES kind_intend (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    value    TEXT    NOT NULL,
    PRIMARY KEY (record, position)
) STRICT, WITHOUT ROWID;

CREATE TABLE kind_accept (
    id       INTEGER PRIMARY KEY,
    rank     INTEGER NOT NULL UNIQUE,
    comments TEXT    NOT NULL DEFAULT '',
    "code" TEXT NOT NULL,
    "subject" TEXT NOT NULL,
    "off" INTEGER NOT NULL DEFAULT 0 CHECK ("off" IN (0, 1)),
    "until" TEXT,
    "note" TEXT
) STRICT;

-- The comments behind the last record.
CREATE TABLE tail (
    position INTEGER PRIMARY KEY,
    comment  TEXT NOT NULL
) STRICT;

-- Every change, append-only. forward and backward are what it did and what undoes it, as JSON; of is the
-- change that an undo or redo is of; effect is what it did to findings.
CREATE TABLE change (
    revision INTEGER PRIMARY KEY,
    at       TEXT NOT NULL,
    who      TEXT NOT NULL,
    why      TEXT NOT NULL DEFAULT '',
    act      TEXT NOT NULL CHECK (act IN ('edit', 'undo', 'redo')),
    of       INTEGER REFERENCES change (revision),
    forward  TEXT NOT NULL,
    backward TEXT NOT NULL,
    effect   TEXT NOT NULL DEFAULT ''
) STRICT;

-- +goose StatementBegin
CREATE TRIGGER change_is_kept BEFORE DELETE ON change BEGIN
    SELECT RAISE(ABORT, 'changes are kept');
END;
-- +goose StatementEnd
