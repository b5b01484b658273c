//! Lines as rows: for each player of a game that merges saves, the id of this database as an installation and the saves that were given
//! away.

use vestigum::{GivenSave, Line, Owner, StoreError, random_installation};

use crate::{PostgresStore, name_of};

const LINE: &str = "SELECT installation, given FROM lines WHERE profile = $1";

const BEGIN: &str = "
    INSERT INTO lines (profile, installation, given) VALUES ($1, $2, '')
    ON CONFLICT (profile) DO UPDATE SET installation = excluded.installation, given = ''";

impl PostgresStore {
    pub(crate) fn line_row(&self, owner: &Owner) -> Result<Option<Line>, StoreError> {
        let name = name_of(owner)?;
        let rows = self.inner.connections.run("read", |connection| connection.query(LINE, &[&name]))?;
        Ok(rows.first().map(|row| {
            let (installation, given): (String, String) = (row.get(0), row.get(1));
            Line { installation: installation.into(), given: Line::read_given(&given) }
        }))
    }

    pub(crate) fn begin_line_row(&self, owner: &Owner) -> Result<Line, StoreError> {
        self.may_write()?;
        let name = name_of(owner)?;
        let line = Line::new(random_installation());
        self.inner
            .connections
            .run("write into", |connection| connection.query(BEGIN, &[&name, &&*line.installation]))?;
        Ok(line)
    }

    pub(crate) fn give_row(&self, owner: &Owner, save: &GivenSave) -> Result<(), StoreError> {
        self.may_write()?;
        let name = name_of(owner)?;
        self.inner.connections.run("write into", |connection| {
            connection.in_a_transaction(|transaction| {
                let rows = transaction.query(&format!("{LINE} FOR UPDATE"), &[&name])?;
                let Some(row) = rows.first() else { return Ok(()) };
                let (installation, given): (String, String) = (row.get(0), row.get(1));
                let mut line = Line { installation: installation.into(), given: Line::read_given(&given) };
                line.give(save.clone());
                let sql = "UPDATE lines SET given = $2 WHERE profile = $1";
                transaction.query(sql, &[&name, &line.given_text()]).map(drop)
            })
        })
    }
}
