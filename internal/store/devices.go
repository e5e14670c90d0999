package store

// Devices, as their hosts tell of them.

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"tessellant/internal/core/devices"
)

// Device is one unit.
type Device struct {
	ID      string              `db:"id"`
	Serial  string              `db:"serial"` // what everybody calls it
	HostID  string              `db:"host_id"`
	Lab     string              `db:"lab"`  // of its host
	Unit    string              `db:"unit"` // the serial by which its lab knows it
	Facts   JSON[devices.Facts] `db:"facts"`
	Told    string              `db:"state"` // what its host said last: ready, away or unusable
	ToldWhy string              `db:"why"`
	Seen    time.Time           `db:"seen"`
	Held    bool                `db:"held"`
	Silent  int                 `db:"silent"` // seconds since its host spoke of it, by the database's clock
	// Overdue says that it is held for longer than the work on it may take.
	Overdue bool   `db:"overdue"`
	Host    string `db:"host"` // its name

	LostInRow     int          `db:"lost_in_row"` // attempts lost on it since the last that was not
	Quarantined   sql.NullTime `db:"quarantined"`
	QuarantineWhy string       `db:"quarantine_why"`
	QuarantineBy  string       `db:"quarantine_by"` // itself, or hand
}

// Standing says how a device stands.
func (d Device) Standing() devices.Standing {
	return devices.Known{State: d.Told, Why: d.ToldWhy, Silent: time.Duration(d.Silent) * time.Second, Held: d.Held, Quarantined: d.Quarantined.Valid, QuarantineWhy: d.QuarantineWhy}.Standing()
}

// Quarantine keeps a device from getting work. By: itself, or hand.
func (s *Store) Quarantine(ctx context.Context, device, by, why string) error {
	_, err := s.exec(ctx, "UPDATE devices SET quarantined = now(3), quarantine_by = ?, quarantine_why = ? WHERE id = ?", by, why, device)
	return err
}

// Release lets a device have work again. By "itself", only what it was quarantined for by itself, at least a while ago. It answers
// whether it did.
func (s *Store) Release(ctx context.Context, device, by string, after time.Duration) (bool, error) {
	res, err := s.exec(ctx, `UPDATE devices SET quarantined = NULL, quarantine_by = '', quarantine_why = '', lost_in_row = IF(? = 'hand', 0, 1)
		WHERE id = ? AND quarantined IS NOT NULL AND (? = 'hand' OR (quarantine_by = 'itself' AND quarantined < now(3) - INTERVAL ? MICROSECOND))`, by, device, by, after.Microseconds())
	if err != nil {
		return false, err
	}
	n, _ := res.RowsAffected()
	return n > 0, nil
}

// ToBeChecked lists the serials of a host's devices that are in quarantine by themselves for a while.
func (s *Store) ToBeChecked(ctx context.Context, host string, after time.Duration) (out []string, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT unit FROM devices WHERE host_id = ? AND quarantine_by = 'itself' AND quarantined < now(3) - INTERVAL ? MICROSECOND", host, after.Microseconds())
	return out, err
}

// Resting are the ids of a host's devices that quarantined themselves.
func (s *Store) Resting(ctx context.Context, host string) (map[string]bool, error) {
	var ids []string
	err := s.db.SelectContext(ctx, &ids, "SELECT id FROM devices WHERE host_id = ? AND quarantine_by = 'itself'", host)
	out := make(map[string]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out, err
}

// Sighting is what a host says of a device.
type Sighting struct {
	HostID, Host, Lab string
	Facts             devices.Facts // Serial: the one by which its lab knows it
	State, Why        string
}

// SeeDevice notes what a host says of a device, and answers its id. A device is known by its host, the lab there and its serial. Everybody calls it by
// the serial alone, unless a host that is there shows another device of that serial: then by serial@host. Once no host shows a device any more,
// the next that does so takes it over, with its history.
func (s *Store) SeeDevice(ctx context.Context, x Sighting) (id string, err error) {
	err = s.InTx(ctx, func(tx *sqlx.Tx) error {
		var d struct {
			ID     string `db:"id"`
			Serial string `db:"serial"`
			Shown  bool   `db:"shown"`
		}
		const columns = "SELECT id, serial, state <> 'away' AND seen > now(3) - INTERVAL ? SECOND AS shown FROM devices WHERE "
		silent := int(devices.SilentAfter.Seconds())
		err := tx.GetContext(ctx, &d, columns+"host_id = ? AND lab = ? AND unit = ? LIMIT 1", silent, x.HostID, x.Lab, x.Facts.Serial)
		for _, name := range []string{x.Facts.Serial, x.Facts.Serial + "@" + x.Host} {
			if !errors.Is(err, sql.ErrNoRows) {
				break
			}
			err = tx.GetContext(ctx, &d, columns+"serial = ? FOR UPDATE", silent, name)
			if errors.Is(err, sql.ErrNoRows) {
				id = NewID()
				f := x.Facts
				f.Serial = name
				_, err = tx.ExecContext(ctx, "INSERT INTO devices (id, serial, host_id, lab, unit, facts, state, why, seen) VALUES (?, ?, ?, ?, ?, ?, ?, ?, now(3))", id, name, x.HostID, x.Lab, x.Facts.Serial, asJSON(f), x.State, x.Why)
				return taken(err) // ErrTaken: another host saw it at the same time
			}
			if err == nil && d.Shown && name == x.Facts.Serial { // somebody else's
				err = sql.ErrNoRows
			}
		}
		if err != nil {
			return err
		}
		id = d.ID
		f := x.Facts
		f.Serial = d.Serial
		_, err = tx.ExecContext(ctx, `UPDATE devices SET host_id = ?, lab = ?, unit = ?, facts = IF(? = '', facts, ?), state = ?, why = ?, seen = now(3) WHERE id = ?`,
			x.HostID, x.Lab, x.Facts.Serial, f.Platform, asJSON(f), x.State, x.Why, d.ID)
		return err
	})
	return id, err
}

// SeeDevices notes what a host says of all its devices, as SeeDevice does of one, and answers their ids in the same order; "": that one belongs to another host, and is told
// again in a moment. Of those that are as before, only the moment is noted; new ones come in together.
func (s *Store) SeeDevices(ctx context.Context, host string, all []Sighting) (ids []string, err error) {
	var rows []struct {
		ID     string `db:"id"`
		Serial string `db:"serial"`
		Lab    string `db:"lab"`
		Unit   string `db:"unit"`
		Facts  string `db:"facts"`
		State  string `db:"state"`
		Why    string `db:"why"`
	}
	if err := s.db.SelectContext(ctx, &rows, "SELECT id, serial, lab, unit, facts, state, why FROM devices WHERE host_id = ?", host); err != nil {
		return nil, err
	}
	type unit struct{ lab, serial string }
	known := make(map[unit]int, len(rows))
	for i, r := range rows {
		known[unit{r.Lab, r.Unit}] = i
	}
	ids = make([]string, len(all))
	var same []string
	var fresh []int
	for i, x := range all {
		k, ok := known[unit{x.Lab, x.Facts.Serial}]
		if !ok {
			fresh = append(fresh, i)
			continue
		}
		r, f := rows[k], x.Facts
		f.Serial = r.Serial
		if r.State == x.State && r.Why == x.Why && (f.Platform == "" || r.Facts == asJSON(f)) {
			ids[i] = r.ID
			same = append(same, r.ID)
			continue
		}
		if ids[i], err = s.SeeDevice(ctx, x); err != nil && !errors.Is(err, ErrTaken) {
			return nil, err
		}
	}
	if len(same) == len(rows) { // all that there are
		if _, err := s.exec(ctx, "UPDATE devices SET seen = now(3) WHERE host_id = ?", host); err != nil {
			return nil, err
		}
		same = nil
	}
	for part := range slices.Chunk(same, manyAtOnce) {
		q, args, err := sqlx.In("UPDATE devices SET seen = now(3) WHERE host_id = ? AND id IN (?)", host, part)
		if err != nil {
			return nil, err
		}
		if _, err := s.exec(ctx, q, args...); err != nil {
			return nil, err
		}
	}
	for part := range slices.Chunk(fresh, manyAtOnce) {
		if err := s.newDevices(ctx, all, part, ids); err != nil {
			return nil, err
		}
	}
	return ids, nil
}

// manyAtOnce is how many rows go in one statement.
const manyAtOnce = 500

// newDevices takes in those of a host's devices that it has not shown before. Where a serial is known, or is taken at the same moment, each is looked at by itself.
func (s *Store) newDevices(ctx context.Context, all []Sighting, which []int, ids []string) error {
	serials := make([]string, len(which))
	for n, i := range which {
		serials[n] = all[i].Facts.Serial
	}
	q, args, err := sqlx.In("SELECT serial FROM devices WHERE serial IN (?)", serials)
	if err != nil {
		return err
	}
	var taken []string
	if err := s.db.SelectContext(ctx, &taken, q, args...); err != nil {
		return err
	}
	var together, alone []int
	seen := map[string]bool{}
	for _, serial := range taken {
		seen[serial] = true
	}
	for _, i := range which {
		if serial := all[i].Facts.Serial; seen[serial] {
			alone = append(alone, i)
		} else {
			seen[serial] = true
			together = append(together, i)
		}
	}
	if len(together) > 0 {
		rows, args := make([]string, 0, len(together)), make([]any, 0, 8*len(together))
		for _, i := range together {
			x := all[i]
			ids[i] = NewID()
			rows = append(rows, "(?, ?, ?, ?, ?, ?, ?, ?, now(3))")
			args = append(args, ids[i], x.Facts.Serial, x.HostID, x.Lab, x.Facts.Serial, asJSON(x.Facts), x.State, x.Why)
		}
		if _, err := s.exec(ctx, "INSERT INTO devices (id, serial, host_id, lab, unit, facts, state, why, seen) VALUES "+strings.Join(rows, ", "), args...); err != nil {
			alone = append(alone, together...)
		}
	}
	for _, i := range alone {
		if ids[i], err = s.SeeDevice(ctx, all[i]); err != nil && !errors.Is(err, ErrTaken) {
			return err
		}
	}
	return nil
}

// DevicesGone marks a host's devices as away, but for those it still sees, by their ids. One
// that never said what it is, is forgotten.
func (s *Store) DevicesGone(ctx context.Context, host string, still []string) error {
	q, args, err := sqlx.In("DELETE FROM devices WHERE host_id = ? AND JSON_VALUE(facts, '$.platform') = '' AND id NOT IN (?)", host, append(still, ""))
	if err != nil {
		return err
	}
	if _, err := s.exec(ctx, q, args...); err != nil {
		return err
	}
	q, args, err = sqlx.In("UPDATE devices SET state = 'away', why = 'its host does not see it any more: check its cable or its network' WHERE host_id = ? AND state <> 'away' AND id NOT IN (?)", host, append(still, ""))
	if err != nil {
		return err
	}
	_, err = s.exec(ctx, q, args...)
	return err
}

// deviceFacts are a device's facts with the labels that people gave it.
const deviceFacts = "IF(d.labels = '{}', d.facts, JSON_SET(d.facts, '$.labels', JSON_EXTRACT(d.labels, '$'))) AS facts"

const deviceColumns = "d.id, d.serial, d.host_id, d.lab, d.unit, " + deviceFacts + ", d.seen, d.lost_in_row, d.quarantined, d.quarantine_why, d.quarantine_by, (SELECT name FROM hosts t WHERE t.id = d.host_id) AS host, d.state, d.why, " +
	"EXISTS (SELECT 1 FROM holds h WHERE h.device_id = d.id AND h.holding = 1) AS held, TIMESTAMPDIFF(SECOND, d.seen, now(3)) AS silent, EXISTS (SELECT 1 FROM " + overdueHolds + " AND h.device_id = d.id) AS overdue"

// overdueHolds are holds that last longer than their work may take: its own limit, and 40 minutes to make ready and to hand in.
const overdueHolds = "holds h JOIN work w ON w.id = h.work_id WHERE h.holding = 1 AND h.created + INTERVAL (w.limit_seconds + 2400) SECOND < now(3)"

// Devices lists devices by serial; limit 0: all.
func (s *Store) Devices(ctx context.Context, after string, limit int) (out []Device, err error) {
	if limit == 0 {
		limit = 1 << 30
	}
	err = s.db.SelectContext(ctx, &out, "SELECT "+deviceColumns+" FROM devices d WHERE d.serial > ? ORDER BY d.serial LIMIT ?", after, limit)
	return out, err
}

// DeviceByID finds a device.
func (s *Store) DeviceByID(ctx context.Context, id string) (d Device, err error) {
	err = s.db.GetContext(ctx, &d, "SELECT "+deviceColumns+" FROM devices d WHERE d.id = ?", id)
	return d, found(err)
}

// DeviceBySerial finds a device.
func (s *Store) DeviceBySerial(ctx context.Context, serial string) (d Device, err error) {
	err = s.db.GetContext(ctx, &d, "SELECT "+deviceColumns+" FROM devices d WHERE d.serial = ?", serial)
	return d, found(err)
}
