package store

// Hosts: their keys, their sessions, and what is known of them.

import (
	"context"
	"database/sql"
	"time"

	"github.com/jmoiron/sqlx"

	"tessellant/internal/core/devices"
)

// Host is a process beside devices.
type Host struct {
	ID       string          `db:"id"`
	Name     string          `db:"name"`
	Seen     time.Time       `db:"seen"`
	HasKey   bool            `db:"has_key"` // it joins from elsewhere
	Version  string          `db:"version"`
	Protocol int             `db:"protocol"`
	Joined   sql.NullTime    `db:"joined"`
	Silent   int             `db:"silent"` // seconds since it was heard of, by the database's clock
	Devices  int             `db:"devices"`
	Holds    int             `db:"holds"`
	About    JSON[HostAbout] `db:"about"`
}

// HostAbout is what a host said it can do besides.
type HostAbout struct {
	Isolation string            `json:"isolation,omitempty"` // of programs; "": it runs none
	Why       string            `json:"why,omitempty"`
	Runtimes  map[string]string `json:"runtimes,omitempty"`
	// Certificate is that of its proxies, as PEM.
	Certificate string        `json:"certificate,omitempty"`
	Labs        []devices.Lab `json:"labs,omitempty"` // where its devices come from
}

const hostColumns = `h.id, h.name, h.seen, h.about, h.key_hash IS NOT NULL AS has_key, h.version, h.protocol, h.joined, TIMESTAMPDIFF(SECOND, h.seen, now(3)) AS silent,
	(SELECT count(*) FROM devices d WHERE d.host_id = h.id AND d.state <> 'away') AS devices, (SELECT count(*) FROM holds x WHERE x.host_id = h.id AND x.active = 1) AS holds`

// SeeHost notes that a host is there, and answers its id.
func (s *Store) SeeHost(ctx context.Context, name string) (id string, err error) {
	if _, err = s.exec(ctx, "INSERT INTO hosts (id, name, seen) VALUES (?, ?, now(3)) ON DUPLICATE KEY UPDATE seen = now(3)", NewID(), name); err != nil {
		return "", err
	}
	err = s.db.GetContext(ctx, &id, "SELECT id FROM hosts WHERE name = ?", name)
	return id, err
}

// TellHost keeps what a host can do.
func (s *Store) TellHost(ctx context.Context, id string, about HostAbout) error {
	_, err := s.exec(ctx, "UPDATE hosts SET about = ? WHERE id = ?", asJSON(about), id)
	return err
}

// HostName gives the name of a host.
func (s *Store) HostName(ctx context.Context, id string) (name string, err error) {
	err = s.db.GetContext(ctx, &name, "SELECT name FROM hosts WHERE id = ?", id)
	return name, found(err)
}

// Hosts lists all hosts by name.
func (s *Store) Hosts(ctx context.Context) (out []Host, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT "+hostColumns+" FROM hosts h ORDER BY h.name")
	return out, err
}

// Rooms says how many sessions may be open at a time at the labs that have a limit, by LabKey.
func (s *Store) Rooms(ctx context.Context) (map[string]int, error) {
	var hosts []struct {
		ID    string          `db:"id"`
		About JSON[HostAbout] `db:"about"`
	}
	if err := s.db.SelectContext(ctx, &hosts, "SELECT id, about FROM hosts WHERE JSON_EXISTS(about, '$.labs')"); err != nil {
		return nil, err
	}
	out := map[string]int{}
	for _, h := range hosts {
		for _, l := range h.About.V.Labs {
			if l.AtOnce > 0 {
				out[LabKey(h.ID, l.Name)] = l.AtOnce
			}
		}
	}
	return out, nil
}

// LabKey is by what a lab of a host is known.
func LabKey(host, lab string) string { return host + "/" + lab }

// SetHostKey gives a host, which is made, a key in place of any it had; what joined with that is not known any more.
func (s *Store) SetHostKey(ctx context.Context, name string, hash []byte) error {
	_, err := s.exec(ctx, `INSERT INTO hosts (id, name, seen, key_hash) VALUES (?, ?, '2000-01-01', ?)
		ON DUPLICATE KEY UPDATE key_hash = VALUES(key_hash), session = NULL`, NewID(), name, hash)
	return err
}

// RemoveHost takes a host's key away, and forgets it with its devices unless something was run on them.
// ErrNotFound: there is no host with a key and this name.
func (s *Store) RemoveHost(ctx context.Context, name string) error {
	return s.InTx(ctx, func(tx *sqlx.Tx) error {
		var id string
		if err := tx.GetContext(ctx, &id, "SELECT id FROM hosts WHERE name = ? AND key_hash IS NOT NULL FOR UPDATE", name); err != nil {
			return found(err)
		}
		if _, err := tx.ExecContext(ctx, "UPDATE hosts SET key_hash = NULL, session = NULL WHERE id = ?", id); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE devices SET state = 'away', why = 'its host was removed' WHERE host_id = ?", id); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM devices WHERE host_id = ? AND NOT EXISTS (SELECT 1 FROM work w WHERE w.device_id = devices.id) AND NOT EXISTS (SELECT 1 FROM holds x WHERE x.device_id = devices.id)", id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM hosts WHERE id = ? AND NOT EXISTS (SELECT 1 FROM devices d WHERE d.host_id = hosts.id) AND NOT EXISTS (SELECT 1 FROM holds x WHERE x.host_id = hosts.id)", id)
		return err
	})
}

// HostByKey finds the host that a key belongs to.
func (s *Store) HostByKey(ctx context.Context, hash []byte) (h Host, err error) {
	err = s.db.GetContext(ctx, &h, "SELECT "+hostColumns+" FROM hosts h WHERE h.key_hash = ?", hash)
	return h, found(err)
}

// HostBySession finds the host of a session, and notes that it is there.
func (s *Store) HostBySession(ctx context.Context, hash []byte) (h Host, err error) {
	if err = s.db.GetContext(ctx, &h, "SELECT "+hostColumns+" FROM hosts h WHERE h.session = ?", hash); err != nil {
		return h, found(err)
	}
	if h.Silent >= 5 {
		_, err = s.exec(ctx, "UPDATE hosts SET seen = now(3) WHERE id = ?", h.ID)
	}
	return h, err
}

// JoinHost begins a session of a host, which ends the one before.
func (s *Store) JoinHost(ctx context.Context, id, version string, protocol int, session []byte) error {
	res, err := s.exec(ctx, "UPDATE hosts SET session = ?, version = ?, protocol = ?, joined = now(3), seen = now(3) WHERE id = ?", session, version, protocol, id)
	if err != nil {
		return err
	}
	if n, _ := res.RowsAffected(); n == 0 {
		return ErrNotFound
	}
	return nil
}
