//! `--log FILE`: a line for each thing that happens, as text or as JSON.

use std::fmt;
use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::path::Path;
use std::process::ExitCode;
use std::sync::Mutex;

use barrow_core::escape::escape_for_display;
use barrow_run::{Error, ErrorKind};
use barrow_targets::secret;
use tracing::field::{Field, Visit};
use tracing::{Event, Level, Subscriber};
use tracing_subscriber::filter::Targets;
use tracing_subscriber::fmt::format::{FormatEvent, FormatFields, Writer};
use tracing_subscriber::fmt::{FmtContext, MakeWriter};
use tracing_subscriber::layer::SubscriberExt;
use tracing_subscriber::registry::LookupSpan;
use tracing_subscriber::util::SubscriberInitExt;

/// Begins to add to the file what happens from now on. It is JSON where its name says so.
///
/// # Errors
/// The file cannot be opened.
pub fn begin(path: &Path) -> Result<(), Error> {
    let file = OpenOptions::new().append(true).create(true).open(path);
    let lines = Lines(Mutex::new(file.map_err(|e| Error::file(path, &e))?));
    let ending = path.extension().unwrap_or_default().to_ascii_lowercase();
    // What other crates would tell may have addresses with keys in it.
    let own = Targets::new().with_target("barrow", Level::INFO);
    let layer = tracing_subscriber::fmt::layer().with_writer(lines);
    let registry = tracing_subscriber::registry().with(own);
    let begun = match ending == "json" || ending == "jsonl" {
        true => registry
            .with(layer.json().flatten_event(true).with_target(false))
            .try_init(),
        false => registry.with(layer.event_format(Text)).try_init(),
    };
    begun.map_err(|e| Error::failed(format!("the log cannot begin: {e}")))
}

/// How a command ended.
pub fn ended(outcome: &Result<ExitCode, Error>) {
    match outcome {
        Ok(code) => {
            let known = (0..=4).find(|known| ExitCode::from(*known) == *code);
            tracing::info!(exit_code = known, "the command ended");
        }
        Err(error) => failed(error),
    }
}

/// Why something could not be done, where it is one thing of several or what a check found, too.
pub fn failed(error: &Error) {
    match error.kind() {
        ErrorKind::OutputClosed => tracing::info!("the reader of the output went away"),
        _ => {
            let problems: Vec<&str> = error
                .problems()
                .iter()
                .map(|p| p.message.as_str())
                .collect();
            tracing::error!(
                kind = error.kind().word(),
                advice = error.advice(),
                problems = (!problems.is_empty()).then(|| problems.join("; ")),
                "{}",
                secret::hide_in_message(error.message())
            );
        }
    }
}

/// The file, to which each event is added in one piece, without secrets.
struct Lines(Mutex<File>);

impl<'l> MakeWriter<'l> for Lines {
    type Writer = &'l Lines;

    fn make_writer(&'l self) -> &'l Lines {
        self
    }
}

impl Write for &Lines {
    fn write(&mut self, line: &[u8]) -> io::Result<usize> {
        let text = String::from_utf8_lossy(line);
        let mut file = self
            .0
            .lock()
            .map_err(|_| io::Error::other("the log is broken"))?;
        file.write_all(secret::hide(&text).as_bytes())?;
        Ok(line.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// An event as a line: when, what, and what goes with it.
struct Text;

impl<S, N> FormatEvent<S, N> for Text
where
    S: Subscriber + for<'s> LookupSpan<'s>,
    N: for<'w> FormatFields<'w> + 'static,
{
    fn format_event(
        &self,
        _: &FmtContext<'_, S, N>,
        mut out: Writer<'_>,
        event: &Event<'_>,
    ) -> fmt::Result {
        let mut told = Told::default();
        event.record(&mut told);
        let level = match *event.metadata().level() {
            Level::ERROR => " error:",
            Level::WARN => " warning:",
            _ => "",
        };
        let now = jiff::Timestamp::now().strftime("%Y-%m-%dT%H:%M:%SZ");
        writeln!(out, "{now}{level} {}{}", told.message, told.fields)
    }
}

/// What an event says, with control characters made visible.
#[derive(Default)]
struct Told {
    message: String,
    fields: String,
}

impl Visit for Told {
    fn record_str(&mut self, field: &Field, value: &str) {
        let value = escape_for_display(value.as_bytes());
        self.fields += &match value.contains([' ', '"', '=']) || value.is_empty() {
            true => format!(" {}={value:?}", field.name()),
            false => format!(" {}={value}", field.name()),
        };
    }

    fn record_debug(&mut self, field: &Field, value: &dyn fmt::Debug) {
        let value = format!("{value:?}");
        match field.name() {
            "message" => self.message = escape_for_display(value.as_bytes()).to_string(),
            name => self.fields += &format!(" {name}={}", escape_for_display(value.as_bytes())),
        }
    }
}
