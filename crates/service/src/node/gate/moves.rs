//! The position a caller's answers are of, as it moves.

use super::{Node, Scope};
use jiff::Timestamp;
use std::sync::Arc;
use std::time::Duration;

/// How long is waited for what else moves before it is told.
const TOGETHER: Duration = Duration::from_millis(50);

/// Where a node stands, followed. It keeps nothing of what was there when it began.
#[derive(Debug)]
pub struct Moves {
    node: Arc<Node>,
    key: String,
    epoch: String,
    /// Whose revision is told; none: the one that was put live last.
    application: Option<Arc<str>>,
    /// What was told last, or nothing yet.
    told: Option<(i64, i64)>,
}

impl Scope {
    /// Where the node stands, now and whenever it moves.
    pub fn moves(&self) -> Moves {
        let (key, epoch) = (self.key_id().to_owned(), self.epoch().to_owned());
        let application = self.application.clone();
        Moves { node: Arc::clone(&self.node), key, epoch, application, told: None }
    }
}

impl Moves {
    /// Revision and `<epoch>.<position>` once they are others than were told. None at the end: of the epoch, of the
    /// caller's key, or of the service.
    pub async fn next(&mut self) -> Option<(i64, String)> {
        let mut positions = self.node.positions();
        loop {
            let view = self.node.view();
            if *view.epoch != *self.epoch || view.keys.counting(&self.key, Timestamp::now()).is_none() {
                return None;
            }
            let revision = view.live.as_ref().map_or(0, |live| {
                let own = self.application.as_deref().and_then(|own| live.in_force.of_application(own));
                live.revision_at(own.unwrap_or(0)).number
            });
            let here = (revision, view.position);
            if self.told != Some(here) {
                self.told = Some(here);
                return Some((revision, view.token()));
            }
            drop(view);
            tokio::select! {
                moved = positions.changed() => {
                    moved.ok()?;
                    tokio::time::sleep(TOGETHER).await;
                }
                // A key may end by itself.
                () = tokio::time::sleep(Duration::from_secs(1)) => {}
                () = self.node.stopping() => return None,
            }
        }
    }
}
