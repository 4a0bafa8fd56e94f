//! How drafted tables relate to each other: columns that tell the rows of one apart, and
//! columns whose values all stand in the key of another. Both are told from all values: each file
//! is read once for its columns, at most twice more for several of them together, and by a query
//! where a column may refer to its own table.

mod composite;
mod distinct;
mod facts;
mod foreign_keys;
mod keys;
mod names;
mod types;

use barrow_run::Error;
use barrow_run::draft::each::FileKind;
use barrow_run::draft::related::Related;

use self::facts::Asked;

/// How each kind of file relates to the others, in their order.
///
/// # Errors
/// A file cannot be read.
pub fn find(kinds: &[FileKind], threads: Option<usize>) -> Result<Vec<Related>, Error> {
    let mut asked = Asked::new(kinds, threads)?;
    let mut tables = asked.tables()?;
    keys::single(&mut tables);
    let mut found = foreign_keys::find(&asked, &tables)?;
    keys::composite(&mut asked, &mut tables, &found)?;
    found.extend(composite::find(&mut asked, &tables)?);
    foreign_keys::without_circles(&tables, &mut found);
    let types = types::shared(&tables, &found);
    let mut all = Vec::new();
    for (place, table) in tables.iter().enumerate() {
        let mut related = Related {
            key: table.key.clone(),
            other_keys: table.other_keys.clone(),
            ..Related::default()
        };
        for foreign in found.iter().filter(|foreign| foreign.from == place) {
            match foreign.is_sure {
                true => related.references.push(foreign.in_words(&tables)),
                false => related.notes.push(foreign.note(&tables)),
            }
        }
        related.types = types
            .iter()
            .filter(|(of, _, _)| *of == place)
            .map(|(_, name, ty)| (name.clone(), *ty))
            .collect();
        all.push(related);
    }
    Ok(all)
}
