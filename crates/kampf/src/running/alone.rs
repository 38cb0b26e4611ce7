//! Whether another Kampf is racing on this machine.

use crate::tidings::Listener;

/// Something that only one race on a machine can have at a time; let go of with this, and with the process however it ends.
pub(crate) struct Alone {
    /// None where another has it, or where the system knows nothing of the kind.
    _held: Option<Held>,
}

#[cfg(target_os = "linux")]
type Held = std::os::unix::net::UnixListener;
#[cfg(not(target_os = "linux"))]
type Held = ();

impl Alone {
    /// Takes it, and warns where another has it: whose program that is makes no difference to the times.
    pub(crate) fn or_warn(hear: &mut dyn Listener) -> Alone {
        let held = take();
        if held.is_none() {
            let what = "warning: another kampf is racing on this machine; each of the two slows the other down and makes its times uneven";
            hear.said(what.to_owned());
        }
        Alone { _held: held.flatten() }
    }
}

/// A name of the kernel's own is a lock that leaves no file behind: unix(7), abstract sockets. None where another has it.
#[cfg(target_os = "linux")]
fn take() -> Option<Option<Held>> {
    use std::os::linux::net::SocketAddrExt;
    use std::os::unix::net::{SocketAddr, UnixListener};
    let address = SocketAddr::from_abstract_name(b"kampf-race").ok();
    match address.map(|address| UnixListener::bind_addr(&address)) {
        Some(Err(error)) if error.kind() == std::io::ErrorKind::AddrInUse => None,
        bound => Some(bound.and_then(Result::ok)),
    }
}

#[cfg(not(target_os = "linux"))]
fn take() -> Option<Option<Held>> {
    Some(None)
}
