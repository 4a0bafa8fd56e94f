//! Members of archives as sources.

use std::io::{Cursor, Read, Write};

use barrow_core::source::archive::members;
use barrow_core::source::{Nowhere, SourceFile, find};

fn contents(files: &[SourceFile]) -> Vec<(String, Vec<u8>)> {
    let one = |file: &SourceFile| {
        let mut bytes = Vec::new();
        file.open().unwrap().read_to_end(&mut bytes).unwrap();
        (file.file_name().display().to_string(), bytes)
    };
    files.iter().map(one).collect()
}

/// A tar of these files.
fn tar(files: &[(&str, &[u8])]) -> Vec<u8> {
    let mut builder = tar::Builder::new(Vec::new());
    for (name, bytes) in files {
        let mut header = tar::Header::new_gnu();
        header.set_size(bytes.len() as u64);
        header.set_mode(0o644);
        builder.append_data(&mut header, name, *bytes).unwrap();
    }
    builder.into_inner().unwrap()
}

fn zip(files: &[(&str, &[u8])]) -> Vec<u8> {
    let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (name, bytes) in files {
        let options = zip::write::SimpleFileOptions::default()
            .compression_method(zip::CompressionMethod::Stored);
        writer.start_file(*name, options).unwrap();
        writer.write_all(bytes).unwrap();
    }
    writer.finish().unwrap().into_inner()
}

fn packed(bytes: &[u8]) -> Vec<u8> {
    let mut encoder = flate2::write::GzEncoder::new(Vec::new(), Default::default());
    encoder.write_all(bytes).unwrap();
    encoder.finish().unwrap()
}

#[test]
fn members_are_read_in_any_order_and_known_by_their_content() {
    let large: Vec<u8> = (0..700_000u32).flat_map(u32::to_le_bytes).collect();
    let long = format!("{}/w3.csv", "folder".repeat(40));
    let files: [(&str, &[u8]); 3] = [("w10.csv", b"ten"), ("w2.csv", &large), (&long, b"three")];
    let folder = tempfile::tempdir().unwrap();
    let plain = folder.path().join("plain.csv");
    std::fs::write(&plain, &large).unwrap();
    let own = SourceFile::local(&plain).fingerprint().unwrap().unwrap();
    for (name, bytes) in [
        ("a.zip", zip(&files)),
        ("a.tar", tar(&files)),
        ("a.tgz", packed(&tar(&files))),
    ] {
        let path = folder.path().join(name);
        std::fs::write(&path, bytes).unwrap();
        let found = members(&SourceFile::local(&path), None).unwrap();
        let names: Vec<String> = contents(&found).into_iter().map(|(name, _)| name).collect();
        assert_eq!(names, ["w3.csv", "w2.csv", "w10.csv"], "{name}");
        // One after the other, backwards, and two at once.
        let mut first = found[1].open().unwrap();
        let mut second = found[0].open().unwrap();
        let mut start = [0; 8];
        first.read_exact(&mut start).unwrap();
        let mut whole = Vec::new();
        second.read_to_end(&mut whole).unwrap();
        assert_eq!(whole, b"three", "{name}");
        let mut rest = start.to_vec();
        first.read_to_end(&mut rest).unwrap();
        assert!(rest == large, "{name}");
        drop((first, second));
        assert_eq!(contents(&found)[2].1, b"ten", "{name}");
        let fingerprint = found[1].fingerprint().unwrap().unwrap();
        assert!(fingerprint.may_be(own.size, &own.sample), "{name}");
        assert_eq!(
            found[1].content().unwrap(),
            SourceFile::local(&plain).content().unwrap()
        );
        assert!(found[1].delete().is_err());
    }
}

#[test]
fn words_that_name_members_are_found_beside_words_that_name_files() {
    let folder = tempfile::tempdir().unwrap();
    let files: [(&str, &[u8]); 3] = [("in/a.csv", b"a"), ("in/b.csv", b"b"), ("c.txt", b"c")];
    std::fs::write(folder.path().join("w.zip"), zip(&files)).unwrap();
    std::fs::write(folder.path().join("x.csv"), b"x").unwrap();
    let found = |words: &[&str]| -> Result<Vec<String>, String> {
        let words: Vec<String> = words.iter().map(|word| (*word).to_string()).collect();
        let found = find(&words, folder.path(), &Nowhere).map_err(|e| e.to_string())?;
        Ok(contents(&found).into_iter().map(|(name, _)| name).collect())
    };
    assert_eq!(found(&["w.zip"]).unwrap(), ["c.txt", "a.csv", "b.csv"]);
    assert_eq!(
        found(&["x.csv", "w.zip/in/*.csv"]).unwrap(),
        ["x.csv", "a.csv", "b.csv"]
    );
    assert_eq!(found(&["w.zip/c.txt", "w.zip/c.txt"]).unwrap(), ["c.txt"]);
    assert_eq!(found(&["*.zip"]).unwrap().len(), 3);
    assert!(
        found(&["w.zip/*.csv"])
            .unwrap_err()
            .contains("has no file *.csv")
    );
    assert!(
        found(&["none.zip/*.csv"])
            .unwrap_err()
            .contains("there is no file")
    );
    assert!(
        found(&["s3://market/a.csv"])
            .unwrap_err()
            .contains("is elsewhere")
    );
}

#[test]
fn a_tar_that_is_cut_off_is_an_error() {
    let folder = tempfile::tempdir().unwrap();
    let bytes = tar(&[("a.csv", &[b'x'; 5000])]);
    for (name, cut) in [
        ("a.tar", bytes[..2000].to_vec()),
        ("b.tgz", packed(&bytes)[..30].to_vec()),
    ] {
        let path = folder.path().join(name);
        std::fs::write(&path, &cut).unwrap();
        let read = members(&SourceFile::local(&path), None).map(|found| {
            let mut bytes = Vec::new();
            found[0]
                .open()
                .and_then(|mut reader| reader.read_to_end(&mut bytes))
        });
        assert!(!matches!(read, Ok(Ok(_))), "{name}");
    }
}
