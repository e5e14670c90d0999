package store

// Devices, as their hosts tell of them.

import (
	"context"
	"database/sql"
	"errors"
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
