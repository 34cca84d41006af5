package store

import (
	"context"
)

// TeamRow is a team in a list.
type TeamRow struct {
	ID        int64
	Name      string
	People    int64
	Workflows int64
}

// Teams lists teams; one alone where id is not 0.
func (s *Store) Teams(ctx context.Context, id int64) ([]TeamRow, error) {
	var out []TeamRow
	err := s.DB.WithContext(ctx).Raw(`SELECT t.id, t.name, (SELECT count(*) FROM team_people m JOIN people p ON p.id = m.person AND p.gone_at IS NULL WHERE m.team = t.id) AS people,
		(SELECT count(*) FROM workflows w WHERE w.team = t.id) AS workflows FROM teams t WHERE ? = 0 OR t.id = ? ORDER BY t.name LIMIT 1000`, id, id).Scan(&out).Error
	return out, err
}

// AddTeam makes a team.
func (s *Store) AddTeam(ctx context.Context, name string) (id int64, err error) {
	err = s.DB.WithContext(ctx).Raw("INSERT INTO teams (name) VALUES (?) RETURNING id", name).Scan(&id).Error
	return id, err
}

// RenameTeam gives a team another name.
func (s *Store) RenameTeam(ctx context.Context, id int64, name string) error {
	return s.DB.WithContext(ctx).Exec("UPDATE teams SET name = ? WHERE id = ?", name, id).Error
}

// DeleteTeam takes a team away; its workflows belong to everyone.
func (s *Store) DeleteTeam(ctx context.Context, id int64) error {
	return found(s.DB.WithContext(ctx).Exec("DELETE FROM teams WHERE id = ?", id))
}

// TeamsOf lists at most two of the teams that a person is in: whoever is in one alone is told apart from who is in several.
func (s *Store) TeamsOf(ctx context.Context, person int64) ([]int64, error) {
	var out []int64
	err := s.DB.WithContext(ctx).Raw("SELECT team FROM team_people WHERE person = ? LIMIT 2", person).Scan(&out).Error
	return out, err
}

// InTeam tells whether somebody is in a team, by its name: as an account, by one of their mail addresses, or as whom a chat names by what
// one account alone is called.
func (s *Store) InTeam(ctx context.Context, team string, account int64, emails []string, handle string) (in bool, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT EXISTS (SELECT 1 FROM teams t JOIN team_people m ON m.team = t.id JOIN people p ON p.id = m.person AND p.gone_at IS NULL
		WHERE lower(t.name) = lower($1) AND (p.id = $2 OR lower(p.email) = ANY (SELECT lower(x) FROM unnest($3::text[]) x)
			OR $4 <> '' AND lower(p.name) = lower($4) AND NOT EXISTS (SELECT 1 FROM people o WHERE o.id <> p.id AND lower(o.name) = lower($4))))`, team, account, emails, handle).Scan(&in)
	return in, err
}

// Namesakes tells whether other accounts have somebody's name.
func (s *Store) Namesakes(ctx context.Context, person int64, name string) (others bool, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM people WHERE id <> $1 AND gone_at IS NULL AND lower(btrim(name)) = lower(btrim($2)))", person, name).Scan(&others)
	return others, err
}

// OfOtherTeams lists the workflows of teams that a person is not in.
func (s *Store) OfOtherTeams(ctx context.Context, person int64) ([]int64, error) {
	var out []int64
	err := s.DB.WithContext(ctx).Raw("SELECT w.id FROM workflows w WHERE w.team IS NOT NULL AND NOT EXISTS (SELECT 1 FROM team_people m WHERE m.team = w.team AND m.person = ?)", person).Scan(&out).Error
	return out, err
}

// OfOwnTeams tells of which of some workflows the teams have a person in them.
func (s *Store) OfOwnTeams(ctx context.Context, person int64, workflows []int64) (map[int64]bool, error) {
	var list []int64
	err := s.DB.WithContext(ctx).Raw("SELECT w.id FROM workflows w JOIN team_people m ON m.team = w.team AND m.person = ? WHERE w.id IN ?", person, workflows).Scan(&list).Error
	out := map[int64]bool{}
	for _, id := range list {
		out[id] = true
	}
	return out, err
}

// Belongs tells to which team a workflow belongs, and whether a person is in it. The name is empty where it belongs to none.
func (s *Store) Belongs(ctx context.Context, workflow, person int64) (team string, among bool, err error) {
	var row struct {
		Team  *int64
		Name  string
		Among bool
	}
	err = s.DB.WithContext(ctx).Raw(`SELECT w.team, t.name, EXISTS (SELECT 1 FROM team_people m WHERE m.team = w.team AND m.person = ?) AS among
		FROM workflows w LEFT JOIN teams t ON t.id = w.team WHERE w.id = ?`, person, workflow).Scan(&row).Error
	if row.Team == nil {
		return "", false, err
	}
	return row.Name, row.Among, err
}
