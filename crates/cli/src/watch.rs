//! `vastrelay watch`: the live stream as a picture that refreshes itself.

mod colors;
mod fleet;
mod view;

use crate::args::watch::WatchOptions;
use crate::client::Client;
use crate::failure::Failure;
use eventsource_stream::Eventsource;
use futures_util::StreamExt;
use ratatui::crossterm::event::{Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers, poll, read};
use std::io::IsTerminal;
use std::time::Duration;
use tokio::sync::mpsc;
use vastrelay_wire::manage::ServiceStatus;
use view::View;

/// Time before the service is called again after the stream broke.
const AGAIN: Duration = Duration::from_secs(1);

/// What changes the picture.
enum Change {
    Status(Box<ServiceStatus>),
    Lost(String),
    Resized,
    /// Another endpoint is looked at: the next one, or the one before.
    Choose(bool),
    Quit,
}

/// Shows the service until somebody has seen enough.
pub async fn run(options: &WatchOptions) -> Result<(), Failure> {
    if !std::io::stdout().is_terminal() {
        return Err(Failure::usage("not a terminal; use `vastrelay status` instead"));
    }
    let client = Client::new(&options.connection)?;
    // Asked once before the screen is taken: an error then is plain text.
    let first: ServiceStatus = client.get("/manage/status").await?;
    let mut view = View::new(client.url());
    view.take(first);
    let (sender, mut changes) = mpsc::channel(64);
    tokio::spawn(follow(client, sender.clone()));
    std::thread::spawn(move || keys(&sender));
    let mut terminal = ratatui::init();
    let outcome = loop {
        if let Err(error) = terminal.draw(|frame| view.draw(frame)) {
            break Err(Failure::failed(format!("cannot draw on the terminal: {error}")));
        }
        match changes.recv().await {
            Some(Change::Status(status)) => view.take(*status),
            Some(Change::Lost(reason)) => view.lose(reason),
            Some(Change::Choose(forward)) => view.choose(forward),
            Some(Change::Resized) => {}
            Some(Change::Quit) | None => break Ok(()),
        }
    };
    ratatui::restore();
    outcome
}

/// Hands on what the live stream tells; when it breaks, calls again until it is back.
async fn follow(client: Client, changes: mpsc::Sender<Change>) {
    loop {
        let reason = match client.open("/manage/live").await {
            Err(failure) => failure.to_string(),
            Ok(response) => {
                let mut events = response.bytes_stream().eventsource();
                while let Some(Ok(event)) = events.next().await {
                    if event.event != "status" {
                        continue;
                    }
                    if let Ok(status) = serde_json::from_str(&event.data)
                        && changes.send(Change::Status(Box::new(status))).await.is_err()
                    {
                        return;
                    }
                }
                "the connection broke".into()
            }
        };
        if changes.send(Change::Lost(reason)).await.is_err() {
            return;
        }
        tokio::time::sleep(AGAIN).await;
    }
}

/// Hands on what is typed.
fn keys(changes: &mpsc::Sender<Change>) {
    loop {
        let change = match poll(Duration::from_millis(200)).and_then(|ready| ready.then(read).transpose()) {
            Ok(None) => None,
            Ok(Some(Event::Key(key))) if is_end(&key) => Some(Change::Quit),
            Ok(Some(Event::Key(key))) if key.kind == KeyEventKind::Press => match key.code {
                KeyCode::Down | KeyCode::Tab => Some(Change::Choose(true)),
                KeyCode::Up | KeyCode::BackTab => Some(Change::Choose(false)),
                _ => None,
            },
            Ok(Some(Event::Resize(..))) => Some(Change::Resized),
            Ok(Some(_)) => None,
            Err(_) => Some(Change::Quit),
        };
        let over = matches!(change, Some(Change::Quit));
        if change.is_some_and(|change| changes.blocking_send(change).is_err()) || over || changes.is_closed() {
            return;
        }
    }
}

fn is_end(key: &KeyEvent) -> bool {
    let control_c = key.code == KeyCode::Char('c') && key.modifiers.contains(KeyModifiers::CONTROL);
    key.kind == KeyEventKind::Press && (control_c || matches!(key.code, KeyCode::Char('q') | KeyCode::Esc))
}
