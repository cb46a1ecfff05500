package pouch

import "tidycourier/core/sqlfile"

func keptPlace(project, stage, name string) string {
	return "kept\x00" + project + "\x00" + stage + "\x00" + name
}

// Keep remembers values that calls took out of their answers, per project and stage.
func (p *Pouch) Keep(project, stage string, values map[string]string) error {
	tx, err := p.db.Begin()
	if err != nil {
		return sqlfile.Explain(err, p.path)
	}
	defer func() { _ = tx.Rollback() }()
	for name, v := range values {
		if _, err := tx.Exec(`INSERT INTO kept VALUES (?,?,?,?) ON CONFLICT DO UPDATE SET sealed = excluded.sealed`,
			project, stage, name, p.box.Seal([]byte(v), keptPlace(project, stage, name))); err != nil {
			return sqlfile.Explain(err, p.path)
		}
	}
	return sqlfile.Explain(tx.Commit(), p.path)
}

// Kept returns the remembered values of a project and stage.
func (p *Pouch) Kept(project, stage string) (map[string]string, error) {
	rows, err := p.db.Query(`SELECT name, sealed FROM kept WHERE project=? AND stage=?`, project, stage)
	if err != nil {
		return nil, sqlfile.Explain(err, p.path)
	}
	defer rows.Close()
	out := map[string]string{}
	for rows.Next() {
		var name string
		var sealed []byte
		if err := rows.Scan(&name, &sealed); err != nil {
			return nil, sqlfile.Explain(err, p.path)
		}
		plain, err := p.box.Open(sealed, keptPlace(project, stage, name))
		if err != nil {
			return nil, sqlfile.Explain(err, p.path)
		}
		out[name] = string(plain)
	}
	return out, sqlfile.Explain(rows.Err(), p.path)
}

// Forget drops a remembered value; it is no error when there is none.
func (p *Pouch) Forget(project, stage, name string) error {
	_, err := p.db.Exec(`DELETE FROM kept WHERE project=? AND stage=? AND name=?`, project, stage, name)
	return sqlfile.Explain(err, p.path)
}
