//! The form of the house: no cycle between the modules of a crate.
//!
//! Every crate's sources are parsed, each name that a file imports or writes out is
//! followed to the file that defines it, and the graph of files must be a stack. A file
//! and its own folder (`draft/mod.rs` and `draft/write.rs`) may know each other.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use syn::visit::Visit;

/// A module's path within its crate, such as `["draft", "write"]`.
type Module = Vec<String>;

/// The sources of one crate.
#[derive(Default)]
struct Sources {
    /// What each module's file defines.
    items: BTreeMap<Module, BTreeSet<String>>,
    /// Names that stand for something elsewhere: `pub use`.
    exports: BTreeMap<(Module, String), Module>,
    /// Modules whose names are all passed on: `pub use x::*`.
    globs: BTreeMap<Module, Vec<Module>>,
    /// What each module's file mentions, from the crate's root.
    mentions: BTreeMap<Module, BTreeSet<Module>>,
}

impl Sources {
    fn read(source: &Path) -> Sources {
        let mut all = Sources::default();
        for file in rust_files(source) {
            let relative = file.strip_prefix(source).expect("it is within");
            let mut module: Module = relative
                .with_extension("")
                .iter()
                .map(|part| part.to_string_lossy().into_owned())
                .collect();
            if matches!(
                module.last().map(String::as_str),
                Some("mod" | "lib" | "main")
            ) {
                module.pop();
            }
            let text = std::fs::read_to_string(&file).expect("a source can be read");
            let parsed = syn::parse_file(&text).expect("a source can be parsed");
            all.items.entry(module.clone()).or_default();
            let mut reader = Reader {
                module,
                all: &mut all,
            };
            reader.visit_file(&parsed);
        }
        all
    }

    /// The module whose file defines what `path` names.
    fn home(&self, path: &[String], depth: usize) -> Module {
        let mut at = Module::new();
        for (place, name) in path.iter().enumerate() {
            let next: Module = at.iter().cloned().chain([name.clone()]).collect();
            if self.items.contains_key(&next) {
                at = next;
                continue;
            }
            let rest = &path[place + 1..];
            let on = |target: &Module| {
                let whole: Module = target.iter().chain(rest).cloned().collect();
                self.home(&whole, depth + 1)
            };
            if depth < 20
                && let Some(target) = self.exports.get(&(at.clone(), name.clone()))
            {
                return on(target);
            }
            let globs = self.globs.get(&at).into_iter().flatten();
            for glob in globs.filter(|_| depth < 20) {
                if self
                    .items
                    .get(glob)
                    .is_some_and(|items| items.contains(name))
                {
                    return glob.clone();
                }
            }
            break;
        }
        at
    }

    /// Which file needs which, parents and children aside.
    fn needs(&self) -> BTreeMap<Module, BTreeSet<Module>> {
        let mut needs: BTreeMap<Module, BTreeSet<Module>> = BTreeMap::new();
        for (module, mentions) in &self.mentions {
            for path in mentions {
                let home = self.home(path, 0);
                let family = home.starts_with(module) || module.starts_with(&home);
                if !family {
                    needs.entry(module.clone()).or_default().insert(home);
                }
            }
        }
        needs
    }
}

/// Gathers what one file defines, passes on and mentions.
struct Reader<'s> {
    module: Module,
    all: &'s mut Sources,
}

impl Reader<'_> {
    /// A path from the crate's root; none where it leads out of the crate.
    fn absolute(&self, path: &[String]) -> Option<Module> {
        let mut base = self.module.clone();
        let mut rest = path;
        match rest.first()?.as_str() {
            "crate" => return Some(rest[1..].to_vec()),
            "self" => rest = &rest[1..],
            "super" => {
                while rest.first().is_some_and(|name| name == "super") {
                    base.pop();
                    rest = &rest[1..];
                }
            }
            name => {
                let child: Module = base.iter().cloned().chain([name.to_string()]).collect();
                self.all.items.contains_key(&child).then_some(())?;
            }
        }
        Some(base.into_iter().chain(rest.iter().cloned()).collect())
    }

    fn mention(&mut self, path: &[String]) {
        if let Some(path) = self.absolute(path) {
            self.all
                .mentions
                .entry(self.module.clone())
                .or_default()
                .insert(path);
        }
    }

    fn import(&mut self, tree: &syn::UseTree, before: &[String], public: bool) {
        let with = |name: &syn::Ident| -> Vec<String> {
            before.iter().cloned().chain([name.to_string()]).collect()
        };
        match tree {
            syn::UseTree::Path(path) => self.import(&path.tree, &with(&path.ident), public),
            syn::UseTree::Group(group) => {
                for tree in &group.items {
                    self.import(tree, before, public);
                }
            }
            syn::UseTree::Glob(_) => {
                if public && let Some(target) = self.target(before) {
                    self.all
                        .globs
                        .entry(self.module.clone())
                        .or_default()
                        .push(target);
                }
                self.mention(before);
            }
            syn::UseTree::Name(name) if name.ident == "self" => self.mention(before),
            syn::UseTree::Name(name) => self.import_one(&with(&name.ident), &name.ident, public),
            syn::UseTree::Rename(name) => self.import_one(&with(&name.ident), &name.rename, public),
        }
    }

    fn import_one(&mut self, path: &[String], name: &syn::Ident, public: bool) {
        if public && let Some(target) = self.target(path) {
            self.all
                .exports
                .insert((self.module.clone(), name.to_string()), target);
        }
        self.mention(path);
    }

    /// Where a `pub use` leads: a name without `crate` or `super` is a child's.
    fn target(&self, path: &[String]) -> Option<Module> {
        match path.first()?.as_str() {
            "crate" | "self" | "super" => self.absolute(path),
            _ => Some(self.module.iter().chain(path).cloned().collect()),
        }
    }
}

impl<'ast> Visit<'ast> for Reader<'_> {
    fn visit_item(&mut self, item: &'ast syn::Item) {
        let name = match item {
            syn::Item::Mod(inner) if inner.content.is_some() => return,
            syn::Item::Const(i) => Some(i.ident.to_string()),
            syn::Item::Enum(i) => Some(i.ident.to_string()),
            syn::Item::Fn(i) => Some(i.sig.ident.to_string()),
            syn::Item::Static(i) => Some(i.ident.to_string()),
            syn::Item::Struct(i) => Some(i.ident.to_string()),
            syn::Item::Trait(i) => Some(i.ident.to_string()),
            syn::Item::Type(i) => Some(i.ident.to_string()),
            // `words! { /// docs \n Name { .. } }` and `macro_rules! name`.
            syn::Item::Macro(i) => i.ident.as_ref().map(ToString::to_string).or_else(|| {
                let tokens = i.mac.tokens.clone().into_iter();
                let mut names = tokens.filter_map(|token| match token {
                    proc_macro2::TokenTree::Ident(name) => Some(name.to_string()),
                    _ => None,
                });
                names.next()
            }),
            _ => None,
        };
        if let Some(name) = name {
            self.all
                .items
                .entry(self.module.clone())
                .or_default()
                .insert(name);
        }
        syn::visit::visit_item(self, item);
    }

    fn visit_item_use(&mut self, item: &'ast syn::ItemUse) {
        let public = !matches!(item.vis, syn::Visibility::Inherited);
        self.import(&item.tree, &[], public);
    }

    fn visit_path(&mut self, path: &'ast syn::Path) {
        if path.segments.len() > 1 {
            let names: Vec<String> = path.segments.iter().map(|s| s.ident.to_string()).collect();
            self.mention(&names);
        }
        syn::visit::visit_path(self, path);
    }
}

fn rust_files(folder: &Path) -> Vec<PathBuf> {
    let mut files = Vec::new();
    for entry in std::fs::read_dir(folder).expect("a folder can be read") {
        let path = entry.expect("an entry can be read").path();
        if path.is_dir() {
            files.extend(rust_files(&path));
        } else if path.extension().is_some_and(|ending| ending == "rs") {
            files.push(path);
        }
    }
    files.sort();
    files
}

/// The groups of nodes that need one another, each in order.
fn cycles<N: Ord + Clone>(needs: &BTreeMap<N, BTreeSet<N>>) -> BTreeSet<Vec<N>> {
    let reached = |from: &N| {
        let mut seen = BTreeSet::new();
        let mut next = vec![from];
        while let Some(node) = next.pop() {
            for needed in needs.get(node).into_iter().flatten() {
                if seen.insert(needed.clone()) {
                    next.push(needed);
                }
            }
        }
        seen
    };
    let all: BTreeMap<&N, BTreeSet<N>> = needs.keys().map(|node| (node, reached(node))).collect();
    let group = |node: &&N| {
        let mates = all[node]
            .iter()
            .filter(|mate| all.get(mate).is_some_and(|r| r.contains(node)));
        mates.cloned().collect::<Vec<N>>()
    };
    all.keys()
        .map(group)
        .filter(|group| !group.is_empty())
        .collect()
}

fn crates() -> Vec<(String, Sources)> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let mut crates = Vec::new();
    for entry in std::fs::read_dir(folder).expect("the folder of crates can be read") {
        let path = entry.expect("an entry can be read").path();
        if path.join("src").is_dir() {
            let name = path.file_name().expect("a crate has a name");
            crates.push((
                name.to_string_lossy().into_owned(),
                Sources::read(&path.join("src")),
            ));
        }
    }
    assert!(crates.len() >= 4, "the crates are found");
    crates
}

#[test]
fn no_file_needs_a_file_that_needs_it() {
    let mut found = Vec::new();
    for (name, sources) in crates() {
        let needs = sources.needs();
        for group in cycles(&needs) {
            let mut lines = format!("{name}: a cycle of {} files", group.len());
            for file in &group {
                let inner: Vec<String> = needs[file]
                    .iter()
                    .filter(|needed| group.contains(needed))
                    .map(|needed| needed.join("::"))
                    .collect();
                lines += &format!("\n  {} needs {}", file.join("::"), inner.join(", "));
            }
            found.push(lines);
        }
    }
    assert!(found.is_empty(), "{}", found.join("\n"));
}

#[test]
fn no_top_level_module_needs_one_that_needs_it() {
    let mut found = Vec::new();
    for (name, sources) in crates() {
        let mut tops: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        for (file, needed) in sources.needs() {
            let Some(top) = file.first() else { continue };
            let others = needed
                .iter()
                .filter_map(|n| n.first())
                .filter(|n| *n != top);
            tops.entry(top.clone()).or_default().extend(others.cloned());
        }
        for group in cycles(&tops) {
            found.push(format!("{name}: {}", group.join(", ")));
        }
    }
    assert!(found.is_empty(), "{}", found.join("\n"));
}

#[test]
fn the_check_sees_a_cycle() {
    let folder = tempfile::tempdir().expect("a folder");
    let write = |name: &str, text: &str| std::fs::write(folder.path().join(name), text);
    write("lib.rs", "mod a;\nmod b;\nmod c;\npub use b::B;").expect("written");
    write("a.rs", "use crate::B;\npub struct A;").expect("written");
    write("b.rs", "pub struct B;\nfn f() { super::c::g(); }").expect("written");
    write("c.rs", "use crate::a::A;\npub fn g() {}").expect("written");
    let groups = cycles(&Sources::read(folder.path()).needs());
    let names: Vec<String> = groups.iter().flatten().map(|m| m.join("::")).collect();
    assert_eq!(names, ["a", "b", "c"]);
    write("c.rs", "pub fn g() {}").expect("written");
    assert!(cycles(&Sources::read(folder.path()).needs()).is_empty());
}

/// What is only for people stays in the program.
#[test]
fn nothing_below_the_program_knows_a_command_line_or_prints() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let mut seen = 0;
    for name in [
        "barrow-core",
        "barrow-targets",
        "barrow-run",
        "barrow-query",
    ] {
        let manifest = fs::read_to_string(crates.join(name).join("Cargo.toml")).unwrap();
        for program in ["clap", "anstream", "indicatif", "miette", "owo-colors"] {
            assert!(!manifest.contains(program), "{name} needs {program}");
        }
        for file in rust_files(&crates.join(name).join("src")) {
            let text = fs::read_to_string(&file).unwrap();
            let code = text.split("#[cfg(test)]").next().unwrap_or("");
            for word in ["println!", "process::exit", "ExitCode"] {
                assert!(!code.contains(word), "{} has {word}", file.display());
            }
            seen += 1;
        }
    }
    assert!(seen > 100, "{seen} files");
}

/// A database is named in its own folder, and in the registry.
#[test]
fn a_database_is_named_in_its_folder_and_the_registry() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let folders = ["sqlite", "postgres", "mariadb"];
    for name in ["barrow", "barrow-core", "barrow-targets", "barrow-run"] {
        let source = crates.join(name).join("src");
        for file in rust_files(&source) {
            let place = file.strip_prefix(&source).unwrap();
            let is_its_own = folders.iter().any(|folder| place.starts_with(folder));
            if is_its_own || place == Path::new("registry.rs") {
                continue;
            }
            let text = fs::read_to_string(&file).unwrap();
            let code = text.split("#[cfg(test)]").next().unwrap_or("");
            for folder in folders {
                for path in [format!("{folder}::"), format!("{{{folder}")] {
                    assert!(!code.contains(&path), "{} names {folder}", file.display());
                }
            }
        }
    }
}
