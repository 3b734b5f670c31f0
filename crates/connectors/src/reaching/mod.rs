//! How systems on a network are reached, whatever their kind: directly, through a proxy, or through a jump host.

mod ends;
mod given;
mod jump_host;
mod keys;
mod proxy;
mod road;

use gonvel_core::ports::systems::ConnectorError;
use gonvel_wire::dial;

use self::ends::{End, not_reached};

pub(crate) use self::given::unusable;
pub use self::given::{Own, Reaching, Through, Way, check_host};
pub use self::road::Road;

impl Reaching {
    /// Reaches a host, within [`Reaching::patience`] once it is its turn, which is waited for as long.
    ///
    /// # Errors
    /// [`ConnectorError`] at the field `host`, or at one of the way there.
    pub async fn dial(&self, host: &str, port: u16) -> Result<Road, ConnectorError> {
        self.check_secrets()?;
        let _turn = match &self.through {
            Some(through) if through.way == Way::JumpHost => {
                let turn = tokio::time::timeout(self.patience, jump_host::turn(through)).await;
                Some(turn.map_err(|_| jump_host::others_first(through, self.patience))?)
            }
            _ => None,
        };
        let reached = async {
            let Some(through) = &self.through else {
                let stream = dial(host, port, self.keepalive).await;
                return stream.map(Road::Direct).map_err(|e| not_reached(&End { host, port, field: "host" }, &e));
            };
            let end = End { host: &through.host, port: through.port, field: "through_host" };
            if through.way == Way::JumpHost {
                return jump_host::open(through, &end, self.keepalive, (host, port)).await;
            }
            let stream = dial(&through.host, through.port, self.keepalive).await.map_err(|e| not_reached(&end, &e))?;
            proxy::open(stream, through, (host, port)).await
        };
        tokio::time::timeout(self.patience, reached).await.map_err(|_| self.no_answer(host, port))?
    }

    /// What it means that nothing answered in time.
    #[must_use]
    pub fn no_answer(&self, host: &str, port: u16) -> ConnectorError {
        let after = self.patience.as_secs();
        match &self.through {
            None => ConnectorError::try_again(
                format!("{host}:{port} did not answer within {after} s"),
                "check the host and port, that the server runs, and that no firewall stands between",
            ),
            Some(through) => ConnectorError::try_again(
                format!("{host}:{port} did not answer within {after} s through the {}", through.named()),
                "check the host and port, that the server runs and may be reached from there, and that the time to connect is enough",
            ),
        }
    }
}
