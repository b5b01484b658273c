//! Lines as rows: for each player of a game that merges saves, the id of this file as an installation and the saves that were given away.

use rusqlite::{Connection, OptionalExtension, Result as SqlResult, TransactionBehavior, params};

use vestigum::{GivenSave, Line, Owner, StoreError, random_installation};

use crate::{SqliteStore, name_of};

fn line_in(connection: &Connection, name: &str) -> SqlResult<Option<Line>> {
    // A file that is only read may be of an older version, and have no such table.
    let there = "SELECT 1 FROM sqlite_schema WHERE type = 'table' AND name = 'lines'";
    if connection.prepare_cached(there)?.query_row([], |_| Ok(())).optional()?.is_none() {
        return Ok(None);
    }
    let sql = "SELECT installation, given FROM lines WHERE profile = ?";
    let row = |row: &rusqlite::Row<'_>| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?));
    let found = connection.prepare_cached(sql)?.query_row([name], row).optional()?;
    Ok(found.map(|(installation, given)| Line { installation: installation.into(), given: Line::read_given(&given) }))
}

impl SqliteStore {
    pub(crate) fn line_row(&self, owner: &Owner) -> Result<Option<Line>, StoreError> {
        line_in(&self.connection(), name_of(owner)?).map_err(self.failed("read"))
    }

    pub(crate) fn begin_line_row(&self, owner: &Owner) -> Result<Line, StoreError> {
        let line = Line::new(random_installation());
        let sql = "INSERT INTO lines (profile, installation, given) VALUES (?, ?, '')
             ON CONFLICT (profile) DO UPDATE SET installation = excluded.installation, given = ''";
        let connection = self.to_write()?;
        connection.execute(sql, params![name_of(owner)?, &*line.installation]).map_err(self.failed("write"))?;
        Ok(line)
    }

    pub(crate) fn give_row(&self, owner: &Owner, save: &GivenSave) -> Result<(), StoreError> {
        let (name, failed) = (name_of(owner)?, self.failed("write"));
        let mut connection = self.to_write()?;
        let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(&failed)?;
        if let Some(mut line) = line_in(&transaction, name).map_err(&failed)? {
            line.give(save.clone());
            let sql = "UPDATE lines SET given = ? WHERE profile = ?";
            transaction.execute(sql, params![line.given_text(), name]).map_err(&failed)?;
        }
        transaction.commit().map_err(&failed)
    }
}
