package store

import "context"

// AddUpload keeps a package for the run that will read it.
func (tx *Tx) AddUpload(ctx context.Context, runID string, content []byte) error {
	_, err := tx.PGX.Exec(ctx, `INSERT INTO uploads (run_id, content) VALUES ($1, $2)`, runID, content)
	return known(err, "keeping the upload")
}

// Upload gives the package that a run is to read.
func (s *Store) Upload(ctx context.Context, runID string) (content []byte, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT content FROM uploads WHERE run_id = $1`, runID).Scan(&content)
	return content, known(err, "finding the upload")
}

// DropUpload removes the package of a run that has ended.
func (tx *Tx) DropUpload(ctx context.Context, runID string) error {
	_, err := tx.PGX.Exec(ctx, `DELETE FROM uploads WHERE run_id = $1`, runID)
	return known(err, "removing the upload")
}
