//! Keys within rows that are encoded already, as arrays: so many of them go to a query as
//! its values.

use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher};

use postgres::types::private::BytesMut;
use postgres::types::{IsNull, Kind, ToSql, Type, to_sql_checked};

/// The values of one column, none of them null. Each is its length in 32 bits and its
/// bytes, which is the form of a field of a binary COPY and of an array's element.
#[derive(Debug, Default)]
pub struct Array {
    count: i32,
    values: Vec<u8>,
}

impl Array {
    fn push(&mut self, value: &[u8]) {
        self.values.extend_from_slice(value);
        self.count += 1;
    }
}

impl ToSql for Array {
    /// An array's binary form, as its type's own function reads it (`array_recv`): how
    /// many dimensions, whether there are nulls, the elements' type, and for each
    /// dimension its length and its first number.
    fn to_sql(
        &self,
        ty: &Type,
        out: &mut BytesMut,
    ) -> Result<IsNull, Box<dyn std::error::Error + Sync + Send>> {
        let Kind::Array(element) = ty.kind() else {
            return Err("an array came for what is none".into());
        };
        for number in [1, 0, element.oid() as i32, self.count, 1] {
            out.extend_from_slice(&number.to_be_bytes());
        }
        out.extend_from_slice(&self.values);
        Ok(IsNull::No)
    }

    fn accepts(ty: &Type) -> bool {
        matches!(ty.kind(), Kind::Array(_))
    }

    to_sql_checked!();
}

/// The keys of some rows, each of them once.
#[derive(Debug, Default)]
pub struct Keys<'r> {
    /// The fields of each key, one after the other.
    fields: Vec<&'r [u8]>,
    /// For each row that has a key, its place and the number of its key.
    pub rows: Vec<(usize, usize)>,
    /// How many columns a key has.
    width: usize,
}

impl<'r> Keys<'r> {
    /// The keys of rows, each of them with its place: its fields at `columns`. A row with
    /// a null among them has none. Keys are the same if their bytes are.
    pub fn of(columns: &[usize], rows: impl Iterator<Item = (usize, &'r [u8])>) -> Keys<'r> {
        let mut keys = Keys {
            width: columns.len(),
            ..Keys::default()
        };
        let mut known = HashMap::new();
        let mut found = Vec::new();
        for (place, row) in rows {
            if fields(row, columns, &mut found).is_none() {
                continue;
            }
            let mut hash = DefaultHasher::new();
            found.hash(&mut hash);
            // Keys that only hash to the same are taken for one: suspicions may be wrong.
            let number = *known.entry(hash.finish()).or_insert_with(|| {
                keys.fields.extend_from_slice(&found);
                keys.fields.len() / keys.width - 1
            });
            keys.rows.push((place, number));
        }
        keys
    }

    /// How many there are.
    pub fn count(&self) -> usize {
        self.fields.len() / self.width.max(1)
    }

    /// Some of the keys, by their numbers: an array for each column.
    pub fn arrays(&self, numbers: &[usize]) -> Vec<Array> {
        let mut arrays = Vec::new();
        arrays.resize_with(self.width, Array::default);
        for number in numbers {
            let fields = &self.fields[number * self.width..][..self.width];
            let each = arrays.iter_mut().zip(fields);
            each.for_each(|(array, field)| array.push(field));
        }
        arrays
    }

    /// The least and the greatest of each `size` keys in a row, where keys are of one
    /// column that holds whole numbers; these may be days or moments.
    pub fn ranges(&self, size: usize) -> [Array; 2] {
        let mut ends = [Array::default(), Array::default()];
        for range in self.fields.chunks(size) {
            let least = range.iter().min_by_key(|field| number(field));
            let greatest = range.iter().max_by_key(|field| number(field));
            let each = ends.iter_mut().zip([least, greatest]);
            each.for_each(|(array, end)| array.push(end.unwrap_or(&range[0])));
        }
        ends
    }
}

/// A field as a whole number: it has 16, 32 or 64 bits, big-endian.
fn number(field: &[u8]) -> i64 {
    let bytes = field.get(4..).unwrap_or_default();
    let sign = if bytes.first().is_some_and(|b| *b > 127) {
        -1
    } else {
        0
    };
    let add = |number: i64, byte: &u8| number << 8 | i64::from(*byte);
    bytes.iter().fold(sign, add)
}

/// The fields of a row at some columns, each with its length; none where one is null.
fn fields<'r>(row: &'r [u8], columns: &[usize], found: &mut Vec<&'r [u8]>) -> Option<()> {
    let last = columns.iter().max()?;
    found.clear();
    found.resize(columns.len(), &[]);
    // The number of fields comes first, in 16 bits.
    let mut rest = row.get(2..)?;
    for column in 0..=*last {
        let length = i32::from_be_bytes(*rest.first_chunk()?);
        let bytes = 4 + usize::try_from(length).unwrap_or(0);
        let field = rest.get(..bytes)?;
        if let Some(at) = columns.iter().position(|wanted| *wanted == column) {
            if length < 0 {
                return None;
            }
            found[at] = field;
        }
        rest = &rest[bytes..];
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A row of a binary COPY.
    fn row(fields: &[Option<&[u8]>]) -> Vec<u8> {
        let mut row = (fields.len() as i16).to_be_bytes().to_vec();
        for field in fields {
            let length = field.map_or(-1, |field| field.len() as i32);
            row.extend_from_slice(&length.to_be_bytes());
            row.extend_from_slice(field.unwrap_or_default());
        }
        row
    }

    /// The keys of rows, whose places are 10, 11 and so on.
    fn keys<'r>(columns: &[usize], rows: &'r [Vec<u8>]) -> Keys<'r> {
        let each = rows.iter().map(Vec::as_slice).enumerate();
        Keys::of(columns, each.map(|(at, row)| (10 + at, row)))
    }

    #[test]
    fn rows_with_a_null_have_no_key_and_equal_keys_are_one() {
        let rows = [
            row(&[Some(b"1"), None, Some(b"plum")]),
            row(&[None, Some(b"x"), Some(b"pear")]),
            row(&[Some(b""), Some(b"x"), None]),
            row(&[Some(b"4"), Some(b"x"), Some(b"quince")]),
            row(&[Some(b"1"), Some(b"y"), Some(b"plum")]),
        ];
        let keys = keys(&[2, 0], &rows);
        assert_eq!(keys.rows, [(10, 0), (13, 1), (14, 0)]);
        assert_eq!(keys.count(), 2);
        let both = keys.arrays(&[0, 1]);
        assert_eq!(both[0].values, b"\0\0\0\x04plum\0\0\0\x06quince");
        assert_eq!(both[1].values, b"\0\0\0\x011\0\0\0\x014");
        assert_eq!((both[0].count, both[1].count), (2, 2));
        assert_eq!(keys.arrays(&[1])[1].values, b"\0\0\0\x014");
    }

    #[test]
    fn keys_whose_columns_join_to_the_same_are_two() {
        let rows = [
            row(&[Some(b"ab"), Some(b"c")]),
            row(&[Some(b"a"), Some(b"bc")]),
        ];
        assert_eq!(keys(&[0, 1], &rows).count(), 2);
    }

    #[test]
    fn a_row_that_ends_too_early_has_no_key() {
        let whole = row(&[Some(b"1"), Some(b"plum")]);
        let cut: Vec<_> = (0..whole.len()).map(|end| whole[..end].to_vec()).collect();
        assert!(keys(&[1], &cut).rows.is_empty());
    }

    #[test]
    fn ranges_go_from_the_least_number_to_the_greatest() {
        let numbers = [7i64, -300, 40_000, i64::MIN, 5, i64::MAX, 2];
        let rows = numbers.map(|number| row(&[Some(&number.to_be_bytes())]));
        let [least, greatest] = keys(&[0], &rows).ranges(3);
        let field = |number: &i64| [&8i32.to_be_bytes()[..], &number.to_be_bytes()].concat();
        let all = |numbers: &[i64]| numbers.iter().flat_map(field).collect::<Vec<u8>>();
        assert_eq!(least.values, all(&[-300, i64::MIN, 2]));
        assert_eq!(greatest.values, all(&[40_000, i64::MAX, 2]));
        let small = row(&[Some(&(-2i16).to_be_bytes())]);
        assert_eq!(number(&small[2..]), -2);
    }

    #[test]
    fn an_array_has_the_form_that_the_server_reads() {
        let rows = [row(&[Some(b"4")])];
        let arrays = keys(&[0], &rows).arrays(&[0]);
        let mut out = BytesMut::new();
        let put = arrays[0].to_sql(&Type::TEXT_ARRAY, &mut out);
        assert!(matches!(put, Ok(IsNull::No)));
        let wanted = b"\0\0\0\x01\0\0\0\0\0\0\0\x19\0\0\0\x01\0\0\0\x01\0\0\0\x014";
        assert_eq!(&out[..], wanted);
        assert!(arrays[0].to_sql(&Type::TEXT, &mut out).is_err());
    }
}
