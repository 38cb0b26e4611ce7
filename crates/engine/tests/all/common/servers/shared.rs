//! The one server that tests share: started when first asked for, ended and removed with the program.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, OnceLock, PoisonError, mpsc};
use std::thread::JoinHandle;

use super::{Loaded, apiary};

/// What keeps the server: a server ends with the thread that started it, so no test's thread can be the one.
static KEEPER: Mutex<Option<(mpsc::Sender<()>, JoinHandle<()>)>> = Mutex::new(None);

/// The URL of a new database there, as its owner reaches it.
pub(super) fn database() -> String {
    static URL: OnceLock<String> = OnceLock::new();
    static DATABASES: AtomicUsize = AtomicUsize::new(0);
    let url = URL.get_or_init(start);
    let name = format!("test_{}", DATABASES.fetch_add(1, Ordering::Relaxed));
    super::carry_out(url, &[&format!("CREATE DATABASE {name} TEMPLATE template0")]);
    url.replacen("/postgres?", &format!("/{name}?"), 1)
}

fn start() -> String {
    let ((tell, told), (end, ended)) = (mpsc::channel(), mpsc::channel());
    let keep = move || {
        let (schema, blueprint) = apiary();
        let home = Loaded::alone(&schema, &blueprint, &[]);
        tell.send(home.own_url()).expect("a test waits for it");
        // Until the program ends.
        let _ = ended.recv();
    };
    let keeper = std::thread::spawn(keep);
    let url = told.recv().expect("a server starts");
    *KEEPER.lock().unwrap_or_else(PoisonError::into_inner) = Some((end, keeper));
    at_exit();
    url
}

#[expect(unsafe_code, reason = "the standard library has no call for what is to be done when the program ends")]
fn at_exit() {
    unsafe extern "C" {
        fn atexit(call: extern "C" fn()) -> std::ffi::c_int;
    }
    extern "C" fn end() {
        let kept = KEEPER.lock().unwrap_or_else(PoisonError::into_inner).take();
        if let Some((end, keeper)) = kept {
            drop(end);
            let _ = keeper.join();
        }
    }
    // SAFETY: the function is there for as long as the program, and does not unwind.
    unsafe { atexit(end) };
}
