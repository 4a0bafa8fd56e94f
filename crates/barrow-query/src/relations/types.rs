//! Columns that refer to a key have its type, and it has room for them.

use barrow_core::types::Type;

use super::facts::Table;
use super::foreign_keys::Foreign;

/// Types that change: the table by its place, the column and its type.
pub fn shared(tables: &[Table], found: &[Foreign]) -> Vec<(usize, String, Type)> {
    let of = |place: usize, name: &String| tables[place].column(name).map(|c| c.ty);
    let mut types: Vec<((usize, String), Type)> = Vec::new();
    let pairs = || {
        let sure = found.iter().filter(|foreign| foreign.is_sure);
        sure.flat_map(|f| {
            let each = f.columns.iter().zip(&f.key);
            each.map(move |(column, key)| ((f.from, column.clone()), (f.to, key.clone())))
        })
    };
    for (a, b) in pairs() {
        for end in [a, b] {
            if let Some(ty) = of(end.0, &end.1)
                && !types.iter().any(|(known, _)| *known == end)
            {
                types.push((end, ty));
            }
        }
    }
    // A key may refer to another key, so it goes on until nothing changes.
    loop {
        let mut changed = false;
        for (a, b) in pairs() {
            let at = |end: &(usize, String)| types.iter().position(|(known, _)| known == end);
            let (Some(a), Some(b)) = (at(&a), at(&b)) else {
                continue;
            };
            let both = wider(types[a].1, types[b].1);
            changed |= types[a].1 != both || types[b].1 != both;
            (types[a].1, types[b].1) = (both, both);
        }
        if !changed {
            break;
        }
    }
    let is_other = |((place, name), ty): &((usize, String), Type)| of(*place, name) != Some(*ty);
    types
        .into_iter()
        .filter(is_other)
        .map(|((place, name), ty)| (place, name, ty))
        .collect()
}

fn wider(a: Type, b: Type) -> Type {
    let width = |ty: Type| match ty {
        Type::SmallInt => 1,
        Type::Integer => 2,
        Type::BigInt => 3,
        _ => 0,
    };
    match (a, b) {
        (Type::Char(n) | Type::VarChar(n), Type::Char(m) | Type::VarChar(m)) if a != b => {
            Type::VarChar(n.max(m))
        }
        _ if width(a) > 0 && width(b) > width(a) => b,
        _ => a,
    }
}
