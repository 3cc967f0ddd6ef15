//! A process of its own for templates, which others wrote.
//!
//! A template of forty lines can double a string forty times. No count of instructions sees that coming, and memory that
//! cannot be had ends the process that asked. So a service renders templates in a process with a limit on its memory, and
//! starts another one when it has ended.

use crate::error::TextError;
use crate::template::{ChatTemplate, Message, TemplateParts};
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::resource::{Resource, setrlimit};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use std::io::{self, Read, Write};
use std::os::fd::AsFd;
use std::path::PathBuf;
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::time::{Duration, Instant};

/// Most bytes of memory that the process may have, its program included.
const MOST_MEMORY: u64 = 512 << 20;
/// Longest time that rendering may take.
const MOST_TIME: Duration = Duration::from_secs(5);
/// Most bytes of a message between the processes.
const MOST_MESSAGE: usize = 64 << 20;

#[derive(Serialize, Deserialize)]
struct RenderRequest<'a> {
    parts: std::borrow::Cow<'a, TemplateParts>,
    messages: std::borrow::Cow<'a, [Message]>,
    answer_next: bool,
}

/// Renders templates in a separate process, which starts with the first template.
pub struct TemplateProcess {
    program: PathBuf,
    parts: Vec<String>,
    running: Option<Running>,
}

struct Running {
    child: Child,
    input: ChildStdin,
    output: ChildStdout,
}

impl TemplateProcess {
    /// Returns one that will run a program with these words; the program has to call [`serve`].
    pub fn new(program: PathBuf, parts: Vec<String>) -> TemplateProcess {
        TemplateProcess {
            program,
            parts,
            running: None,
        }
    }

    /// As [`ChatTemplate::render`].
    ///
    /// # Errors
    /// As of [`ChatTemplate::render`]; also when the template takes too much memory or time.
    pub fn render(
        &mut self,
        template: &ChatTemplate,
        messages: &[Message],
        answer_next: bool,
    ) -> Result<String, TextError> {
        let order = RenderRequest {
            parts: std::borrow::Cow::Borrowed(template.parts()),
            messages: std::borrow::Cow::Borrowed(messages),
            answer_next,
        };
        let answer = self.exchange(&order).unwrap_or_else(|error| {
            self.stop();
            Err(match error.kind() {
                io::ErrorKind::TimedOut => format!("it did not end within {} s", MOST_TIME.as_secs()),
                io::ErrorKind::UnexpectedEof | io::ErrorKind::BrokenPipe => {
                    format!("it needs more than {} MiB of memory", MOST_MEMORY >> 20)
                }
                _ => error.to_string(),
            })
        });
        answer.map_err(TextError::Template)
    }

    fn exchange(&mut self, order: &RenderRequest<'_>) -> io::Result<Result<String, String>> {
        let running = match &mut self.running {
            Some(running) => running,
            none => none.insert(Running::start(&self.program, &self.parts)?),
        };
        write_message(&mut running.input, order)?;
        let output = Timed {
            output: &mut running.output,
            end: Instant::now() + MOST_TIME,
        };
        read_message(output)
    }

    fn stop(&mut self) {
        if let Some(mut running) = self.running.take() {
            let _ = running.child.kill();
            let _ = running.child.wait();
        }
    }
}

impl Drop for TemplateProcess {
    fn drop(&mut self) {
        self.stop();
    }
}

impl Running {
    fn start(program: &PathBuf, parts: &[String]) -> io::Result<Running> {
        let mut child = Command::new(program)
            .args(parts)
            .env_clear()
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()?;
        let (input, output) = (child.stdin.take(), child.stdout.take());
        let (input, output) = (input.expect("it is piped"), output.expect("it is piped"));
        Ok(Running { child, input, output })
    }
}

/// Reads until a moment, and fails after it.
struct Timed<'a> {
    output: &'a mut ChildStdout,
    end: Instant,
}

impl Read for Timed<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let left = self.end.saturating_duration_since(Instant::now());
        let left = PollTimeout::try_from(left).unwrap_or(PollTimeout::MAX);
        let mut wanted = [PollFd::new(self.output.as_fd(), PollFlags::POLLIN)];
        if poll(&mut wanted, left)? == 0 {
            return Err(io::ErrorKind::TimedOut.into());
        }
        self.output.read(buffer)
    }
}

/// Renders what comes in until nothing more does, in a process with little memory: the other side of [`TemplateProcess`].
///
/// # Errors
/// When the memory cannot be limited or the other process is gone.
pub fn serve(mut input: impl Read, mut output: impl Write) -> io::Result<()> {
    setrlimit(Resource::RLIMIT_AS, MOST_MEMORY, MOST_MEMORY)?;
    let mut kept: Option<ChatTemplate> = None;
    loop {
        let order: RenderRequest<'_> = match read_message(&mut input) {
            Ok(order) => order,
            Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(()),
            Err(error) => return Err(error),
        };
        let answer = render(&mut kept, &order).map_err(|error| match error {
            TextError::Template(reason) => reason,
            other => other.to_string(),
        });
        write_message(&mut output, &answer)?;
    }
}

/// Renders with the template that was compiled last, or compiles another.
fn render(kept: &mut Option<ChatTemplate>, order: &RenderRequest<'_>) -> Result<String, TextError> {
    if kept.as_ref().is_none_or(|template| *template.parts() != *order.parts) {
        let TemplateParts {
            source,
            bos_token,
            eos_token,
        } = order.parts.clone().into_owned();
        let compiled = ChatTemplate::new(source, bos_token, eos_token);
        *kept = Some(compiled.map_err(|error| TextError::Template(error.to_string()))?);
    }
    let template = kept.as_ref().expect("it was just compiled");
    template.render(&order.messages, order.answer_next)
}

fn write_message(output: &mut impl Write, message: &impl Serialize) -> io::Result<()> {
    let mut bytes = vec![0; 4];
    serde_json::to_writer(&mut bytes, message)?;
    let length = bytes.len() - 4;
    bytes[..4].copy_from_slice(&(length as u32).to_le_bytes());
    output.write_all(&bytes)?;
    output.flush()
}

fn read_message<T: DeserializeOwned>(mut input: impl Read) -> io::Result<T> {
    let mut length = [0; 4];
    input.read_exact(&mut length)?;
    let length = u32::from_le_bytes(length) as usize;
    if length > MOST_MESSAGE {
        return Err(io::Error::other("the message is too large"));
    }
    let mut bytes = vec![0; length];
    input.read_exact(&mut bytes)?;
    Ok(serde_json::from_slice(&bytes)?)
}
