//! Members of archives as sources.

use std::io::{Cursor, Read, Write};

use barrow_core::source::archive::members;
use barrow_core::source::open::Input;
use barrow_core::source::{Compression, Nowhere, SourceFile, find};

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

/// How a damaged file came out: refused, or the bytes of its members.
type Outcome = Result<Vec<Vec<u8>>, String>;

/// Reads a file as a load does: the members of an archive, or the file unpacked.
fn read_all(path: &std::path::Path) -> Outcome {
    let archive = SourceFile::local(path);
    let name = path.display().to_string();
    let files = match barrow_core::source::archive::is_archive(&name) {
        true => members(&archive, Some("*.csv")).map_err(|e| e.to_string())?,
        false => vec![archive],
    };
    let read = |file: &SourceFile| {
        let mut input = Input::open(file, Compression::Auto).map_err(|e| e.to_string())?;
        let mut bytes = Vec::new();
        while input.fill(777, &mut bytes).map_err(|e| e.to_string())? == 777 {}
        Ok(bytes)
    };
    files.iter().map(read).collect()
}

/// Some records, whose bytes do not repeat much.
fn records(seed: u32) -> Vec<u8> {
    let line = |n: u32| {
        format!(
            "{n},{},{}\n",
            n.wrapping_mul(2_654_435_761) ^ seed,
            n * n % 977
        )
    };
    (0..120).map(line).collect::<String>().into_bytes()
}

/// Bytes packed in every form that has a checksum.
fn packed_in_all_ways(bytes: &[u8]) -> Vec<(&'static str, Vec<u8>)> {
    let mut zstd = zstd::stream::write::Encoder::new(Vec::new(), 3).unwrap();
    zstd.include_checksum(true).unwrap();
    zstd.write_all(bytes).unwrap();
    let mut bzip2 = bzip2::write::BzEncoder::new(Vec::new(), bzip2::Compression::best());
    bzip2.write_all(bytes).unwrap();
    let mut xz = liblzma::write::XzEncoder::new(Vec::new(), 6);
    xz.write_all(bytes).unwrap();
    vec![
        (".gz", packed(bytes)),
        (".zst", zstd.finish().unwrap()),
        (".bz2", bzip2.finish().unwrap()),
        (".xz", xz.finish().unwrap()),
    ]
}

/// Files in every form, with what they hold.
fn every_form() -> Vec<(String, Vec<u8>, Vec<Vec<u8>>)> {
    let (one, two) = (records(1), records(2));
    let files: [(&str, &[u8]); 3] = [("a.csv", &one), ("b.csv", &two), ("notes.txt", b"none")];
    let mut forms = Vec::new();
    for (ending, bytes) in packed_in_all_ways(&one) {
        forms.push((format!("a.csv{ending}"), bytes, vec![one.clone()]));
    }
    for (ending, bytes) in packed_in_all_ways(&tar(&files)) {
        let both = vec![one.clone(), two.clone()];
        forms.push((format!("a.tar{ending}"), bytes, both));
    }
    forms.push(("a.zip".into(), zip(&files), vec![one, two]));
    forms
}

#[test]
fn a_flipped_bit_is_refused_or_does_no_harm() {
    let folder = tempfile::tempdir().unwrap();
    for (name, bytes, wanted) in every_form() {
        let path = folder.path().join(&name);
        std::fs::write(&path, &bytes).unwrap();
        assert_eq!(read_all(&path).as_ref(), Ok(&wanted), "{name}");
        let mut refused = 0;
        for bit in (0..bytes.len() * 8).step_by(23) {
            let mut damaged = bytes.clone();
            damaged[bit / 8] ^= 1 << (bit % 8);
            std::fs::write(&path, &damaged).unwrap();
            match read_all(&path) {
                Ok(read) => assert!(read == wanted, "{name}, bit {bit}"),
                Err(_) => refused += 1,
            }
        }
        assert!(refused > 100, "{name}: {refused}");
    }
}

#[test]
fn a_file_that_is_cut_off_is_refused_or_whole() {
    let folder = tempfile::tempdir().unwrap();
    let mut forms = every_form();
    let (one, two) = (records(1), records(2));
    let plain = tar(&[("a.csv", &one), ("b.csv", &two)]);
    forms.push(("a.tar".into(), plain, vec![one, two]));
    for (name, bytes, wanted) in forms {
        let path = folder.path().join(&name);
        for cut in (1..bytes.len()).step_by(37) {
            std::fs::write(&path, &bytes[..cut]).unwrap();
            if let Ok(read) = read_all(&path) {
                assert!(read == wanted, "{name}, {cut} of {} bytes", bytes.len());
            }
        }
    }
}

#[test]
fn what_would_be_lost_in_an_archive_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let told = |name: &str, bytes: Vec<u8>| {
        let path = folder.path().join(name);
        std::fs::write(&path, bytes).unwrap();
        read_all(&path)
    };
    let refused = |name: &str, bytes: Vec<u8>, says: &str| {
        let error = told(name, bytes).unwrap_err();
        assert!(error.contains(says), "{name}: {error}");
    };
    // One name twice.
    let twice = tar(&[("a.csv", b"1"), ("a.csv", b"2")]);
    refused("t.tar", twice.clone(), "a.csv is there twice");
    refused("t.tgz", packed(&twice), "a.csv is there twice");
    let mut twice = zip(&[("a.csv", b"1"), ("b.csv", b"2")]);
    while let Some(at) = twice.windows(5).position(|name| name == b"b.csv") {
        twice[at] = b'a';
    }
    refused("t.zip", twice, "have one name");
    // Archives behind one another.
    let several = [tar(&[("a.csv", b"1")]), tar(&[("b.csv", b"2")])].concat();
    refused("s.tar", several.clone(), "more behind its end");
    refused("s.tgz", packed(&several), "more behind its end");
    let several = [zip(&[("a.csv", b"1")]), zip(&[("b.csv", b"2")])].concat();
    refused("s.zip", several, "another archive stands before it");
    // A packed tar whose second stream is not read, since the tar ends in the first.
    let streams = [packed(&tar(&[("a.csv", b"1")])), packed(b"x")].concat();
    refused("p.tgz", streams, "more behind its end");
    // Links: another name of a file is that file; one that only points is not read.
    for (kind, expected) in [
        (tar::EntryType::Link, true),
        (tar::EntryType::Symlink, false),
    ] {
        let mut builder = tar::Builder::new(Vec::new());
        let mut header = tar::Header::new_gnu();
        header.set_size(3);
        builder
            .append_data(&mut header, "a.csv", &b"1,2"[..])
            .unwrap();
        let mut link = tar::Header::new_gnu();
        link.set_entry_type(kind);
        link.set_size(0);
        builder.append_link(&mut link, "b.csv", "a.csv").unwrap();
        let bytes = builder.into_inner().unwrap();
        match expected {
            true => {
                let both = vec![b"1,2".to_vec(), b"1,2".to_vec()];
                assert_eq!(told("l.tar", bytes), Ok(both));
            }
            false => refused("l.tar", bytes, "b.csv is a symbolic link"),
        }
    }
    let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
    let options = zip::write::SimpleFileOptions::default();
    writer.add_symlink("b.csv", "a.csv", options).unwrap();
    let linked = writer.finish().unwrap().into_inner();
    refused("l.zip", linked, "b.csv is a symbolic link");
}
