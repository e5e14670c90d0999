package store

// Secret inputs of runs that go on, as service/secrets seals them, and which key seals.

import "context"

// Secrets gives the secrets of a run that goes on.
func (s *Store) Secrets(ctx context.Context, run string) (map[string]string, error) {
	var rows []struct{ Name, Value string }
	err := s.db.SelectContext(ctx, &rows, "SELECT name, value FROM run_secrets WHERE run_id = ?", run)
	out := map[string]string{}
	for _, r := range rows {
		out[r.Name] = r.Value
	}
	return out, err
}

// KeptSecret is a secret input as it is kept.
type KeptSecret struct {
	Run   string `db:"run_id"`
	Name  string `db:"name"`
	Value string `db:"value"`
}

// SecretKey gives the id of the key with which the service's processes seal secrets: the one that is given, where there was none.
func (s *Store) SecretKey(ctx context.Context, mine string) (id string, err error) {
	if _, err := s.exec(ctx, "INSERT IGNORE INTO secret_keys (one, id) VALUES (1, ?)", mine); err != nil {
		return "", err
	}
	err = s.db.GetContext(ctx, &id, "SELECT id FROM secret_keys WHERE one = 1")
	return id, err
}

// SetSecretKey says that the service seals with another key from now on.
func (s *Store) SetSecretKey(ctx context.Context, id string) error {
	_, err := s.exec(ctx, "REPLACE INTO secret_keys (one, id) VALUES (1, ?)", id)
	return err
}

// AllSecrets lists those of all runs that go on.
func (s *Store) AllSecrets(ctx context.Context) (out []KeptSecret, err error) {
	err = s.db.SelectContext(ctx, &out, "SELECT run_id, name, value FROM run_secrets")
	return out, err
}

// ReplaceSecret keeps a secret in another way, unless it has changed since, or its run is over.
func (s *Store) ReplaceSecret(ctx context.Context, old KeptSecret, value string) error {
	_, err := s.exec(ctx, "UPDATE run_secrets SET value = ? WHERE run_id = ? AND name = ? AND value = ?", value, old.Run, old.Name, old.Value)
	return err
}
