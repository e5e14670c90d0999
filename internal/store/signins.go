package store

// Browsers that signed in, and tickets that sign one in.

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// Kinds of sign-ins.
const (
	SigninBrowser = "browser"
	SigninTicket  = "ticket"
)

// AddSignin keeps a sign-in for so long, and forgets those that are over.
func (s *Store) AddSignin(ctx context.Context, kind string, hash []byte, key string, lasts time.Duration) error {
	if _, err := s.exec(ctx, "DELETE FROM signins WHERE expires < now(3)"); err != nil {
		return err
	}
	_, err := s.exec(ctx, "INSERT INTO signins (hash, kind, key_id, created, expires) VALUES (?, ?, ?, now(3), now(3) + INTERVAL ? SECOND)", hash, kind, key, int(lasts.Seconds()))
	return err
}

// SigninByHash finds whose browser this is; the key with which it signed in may have ended since. One that is used in the last half of
// idle is made to last for idle from now on, but never beyond longest after it began.
func (s *Store) SigninByHash(ctx context.Context, hash []byte, idle, longest time.Duration) (who Identity, expires time.Time, err error) {
	var row struct {
		Identity
		Until time.Time `db:"until"`
		Left  int       `db:"left_s"`
		Age   int       `db:"age_s"`
		Noted bool      `db:"noted"`
	}
	err = s.db.GetContext(ctx, &row, "SELECT "+identityColumns+`, i.expires AS until, timestampdiff(SECOND, now(3), i.expires) AS left_s, timestampdiff(SECOND, i.created, now(3)) AS age_s, coalesce(k.used > now(3) - INTERVAL 1 MINUTE, 0) AS noted
		FROM signins i JOIN access_keys k ON k.id = i.key_id JOIN workspaces w ON w.id = k.workspace_id WHERE i.hash = ? AND i.kind = 'browser' AND i.expires > now(3)`, hash)
	if err != nil {
		return who, expires, found(err)
	}
	who, expires = row.Identity, row.Until
	if !row.Noted && !who.Withdrawn && !who.Expired {
		if err := s.keyUsed(ctx, who.KeyID); err != nil {
			return who, expires, err
		}
	}
	if lasts := min(idle, longest-time.Duration(row.Age)*time.Second); row.Left < int(idle.Seconds())/2 && lasts > time.Duration(row.Left)*time.Second {
		if _, err = s.exec(ctx, "UPDATE signins SET expires = now(3) + INTERVAL ? SECOND WHERE hash = ?", int(lasts.Seconds()), hash); err == nil {
			expires = expires.Add(lasts - time.Duration(row.Left)*time.Second)
		}
	}
	return who, expires, err
}

// UseTicket answers whose ticket it was, once.
func (s *Store) UseTicket(ctx context.Context, hash []byte) (key string, err error) {
	err = s.InTx(ctx, func(tx *sqlx.Tx) error {
		if err := tx.GetContext(ctx, &key, "SELECT key_id FROM signins WHERE hash = ? AND kind = 'ticket' AND expires > now(3) FOR UPDATE", hash); err != nil {
			return found(err)
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM signins WHERE hash = ?", hash)
		return err
	})
	return key, err
}

// EndSignin forgets a sign-in.
func (s *Store) EndSignin(ctx context.Context, hash []byte) error {
	_, err := s.exec(ctx, "DELETE FROM signins WHERE hash = ?", hash)
	return err
}
