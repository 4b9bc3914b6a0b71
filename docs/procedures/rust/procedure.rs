//! The world `graphodrome:procedure/procedure@0.1.0` for Rust without other crates: what a module calls, as functions over
//! slices, and what it exports, by the macro `procedure!`. Copy it beside the procedure; it compiles with any Rust from 1.63 on.

#![allow(dead_code)]

use std::alloc::{alloc, realloc, Layout};
use std::mem::MaybeUninit;

#[derive(Clone, Copy)]
#[repr(u32)]
pub enum Direction {
    Along,
    Against,
    Both,
}

#[derive(Clone, Copy)]
#[repr(u32)]
pub enum Element {
    Node,
    Edge,
}

#[repr(C)]
pub struct List {
    at: *mut u8,
    len: usize,
}

#[repr(C)]
pub struct Option64 {
    there: u32,
    value: f64,
}

#[repr(C)]
pub struct OptionText {
    there: u32,
    text: List,
}

#[repr(C)]
pub struct Outcome {
    failed: u32,
    why: List,
}

mod raw {
    use super::{List, Option64, OptionText};

    #[link(wasm_import_module = "graphodrome:procedure/part@0.1.0")]
    extern "C" {
        #[link_name = "node-count"]
        pub fn node_count() -> u32;
        #[link_name = "edge-count"]
        pub fn edge_count() -> u32;
        pub fn starts(direction: u32, out: *mut List);
        pub fn neighbours(direction: u32, out: *mut List);
        pub fn edges(direction: u32, out: *mut List);
        pub fn weights(out: *mut List);
        pub fn numbers(of: u32, name: *const u8, length: usize, out: *mut List);
        pub fn texts(of: u32, name: *const u8, length: usize, out: *mut List);
    }

    pub mod arguments {
        use super::{List, Option64, OptionText};

        #[link(wasm_import_module = "graphodrome:procedure/arguments@0.1.0")]
        extern "C" {
            #[link_name = "number"]
            pub fn argument_number(name: *const u8, length: usize, out: *mut Option64);
            #[link_name = "text"]
            pub fn argument_text(name: *const u8, length: usize, out: *mut OptionText);
            #[link_name = "nodes"]
            pub fn argument_nodes(name: *const u8, length: usize, out: *mut List);
        }
    }

    pub mod results {
        use super::List;

        #[link(wasm_import_module = "graphodrome:procedure/results@0.1.0")]
        extern "C" {
            #[link_name = "nodes"]
            pub fn give_nodes(name: *const u8, length: usize, values: *const u32, count: usize);
            #[link_name = "edges"]
            pub fn give_edges(name: *const u8, length: usize, values: *const u32, count: usize);
            #[link_name = "numbers"]
            pub fn give_numbers(name: *const u8, length: usize, values: *const f64, count: usize);
            #[link_name = "wholes"]
            pub fn give_wholes(name: *const u8, length: usize, values: *const i64, count: usize);
            #[link_name = "truths"]
            pub fn give_truths(name: *const u8, length: usize, values: *const bool, count: usize);
            #[link_name = "texts"]
            pub fn give_texts(name: *const u8, length: usize, values: *const List, count: usize);
        }
    }
}

/// What a call gives back where it writes to `out`.
fn got<T>(call: impl FnOnce(*mut T)) -> T {
    let mut out = MaybeUninit::uninit();
    call(out.as_mut_ptr());
    unsafe { out.assume_init() }
}

/// A list that was written by `cabi_realloc` belongs to the module.
unsafe fn owned<T>(list: List) -> Vec<T> {
    if list.len == 0 {
        return Vec::new();
    }
    Vec::from_raw_parts(list.at as *mut T, list.len, list.len)
}

/// The part of the graph.
pub mod part {
    use super::*;

    pub fn node_count() -> usize {
        unsafe { raw::node_count() as usize }
    }

    pub fn edge_count() -> usize {
        unsafe { raw::edge_count() as usize }
    }

    pub fn starts(direction: Direction) -> Vec<u32> {
        unsafe { owned(got(|out| raw::starts(direction as u32, out))) }
    }

    pub fn neighbours(direction: Direction) -> Vec<u32> {
        unsafe { owned(got(|out| raw::neighbours(direction as u32, out))) }
    }

    pub fn edges(direction: Direction) -> Vec<u32> {
        unsafe { owned(got(|out| raw::edges(direction as u32, out))) }
    }

    pub fn weights() -> Vec<f64> {
        unsafe { owned(got(|out| raw::weights(out))) }
    }

    /// NaN where there is none.
    pub fn numbers(of: Element, name: &str) -> Vec<f64> {
        unsafe { owned(got(|out| raw::numbers(of as u32, name.as_ptr(), name.len(), out))) }
    }

    pub fn texts(of: Element, name: &str) -> Vec<Option<String>> {
        let list: Vec<OptionText> =
            unsafe { owned(got(|out| raw::texts(of as u32, name.as_ptr(), name.len(), out))) };
        let text = |o: OptionText| unsafe { String::from_utf8_unchecked(owned(o.text)) };
        list.into_iter().map(|o| if o.there & 0xff == 0 { None } else { Some(text(o)) }).collect()
    }
}

/// What the call gives for the signature's arguments.
pub mod arguments {
    use super::*;

    pub fn number(name: &str) -> Option<f64> {
        let got: Option64 = got(|out| unsafe { raw::arguments::argument_number(name.as_ptr(), name.len(), out) });
        if got.there & 0xff == 0 { None } else { Some(got.value) }
    }

    pub fn text(name: &str) -> Option<String> {
        let got: OptionText = got(|out| unsafe { raw::arguments::argument_text(name.as_ptr(), name.len(), out) });
        if got.there & 0xff == 0 {
            return None;
        }
        Some(unsafe { String::from_utf8_unchecked(owned(got.text)) })
    }

    pub fn nodes(name: &str) -> Vec<u32> {
        unsafe { owned(got(|out| raw::arguments::argument_nodes(name.as_ptr(), name.len(), out))) }
    }
}

/// Where the rows go, column by column.
pub mod results {
    use super::*;

    pub fn nodes(column: &str, values: &[u32]) {
        unsafe { raw::results::give_nodes(column.as_ptr(), column.len(), values.as_ptr(), values.len()) }
    }

    pub fn edges(column: &str, values: &[u32]) {
        unsafe { raw::results::give_edges(column.as_ptr(), column.len(), values.as_ptr(), values.len()) }
    }

    pub fn numbers(column: &str, values: &[f64]) {
        unsafe { raw::results::give_numbers(column.as_ptr(), column.len(), values.as_ptr(), values.len()) }
    }

    pub fn wholes(column: &str, values: &[i64]) {
        unsafe { raw::results::give_wholes(column.as_ptr(), column.len(), values.as_ptr(), values.len()) }
    }

    pub fn truths(column: &str, values: &[bool]) {
        unsafe { raw::results::give_truths(column.as_ptr(), column.len(), values.as_ptr(), values.len()) }
    }

    pub fn texts<T: AsRef<str>>(column: &str, values: &[T]) {
        let list = |v: &T| List { at: v.as_ref().as_ptr() as *mut u8, len: v.as_ref().len() };
        let all: Vec<List> = values.iter().map(list).collect();
        unsafe { raw::results::give_texts(column.as_ptr(), column.len(), all.as_ptr(), all.len()) }
    }
}

/// Memory for what the host hands over.
#[no_mangle]
unsafe extern "C" fn cabi_realloc(old: *mut u8, old_length: usize, align: usize, length: usize) -> *mut u8 {
    if length == 0 {
        return align as *mut u8;
    }
    let layout = |length| Layout::from_size_align_unchecked(length, align);
    match old_length {
        0 => alloc(layout(length)),
        _ => realloc(old, layout(old_length), length),
    }
}

/// A text where the host finds it.
pub fn handed_over(text: &str) -> *const List {
    Box::leak(Box::new(leaked(text.to_string())))
}

/// What a run comes to, where the host finds it.
pub fn outcome(result: Result<(), String>) -> *const Outcome {
    let (failed, text) = match result {
        Ok(()) => (0, String::new()),
        Err(text) => (1, text),
    };
    Box::leak(Box::new(Outcome { failed, why: leaked(text) }))
}

fn leaked(text: String) -> List {
    let text: &'static mut [u8] = Box::leak(text.into_bytes().into_boxed_slice());
    List { at: text.as_mut_ptr(), len: text.len() }
}

/// `procedure!(SIGNATURE, run)` with `fn run() -> Result<(), String>`.
#[macro_export]
macro_rules! procedure {
    ($signature:expr, $run:path) => {
        #[export_name = "signature"]
        pub extern "C" fn exported_signature() -> *const $crate::procedure::List {
            $crate::procedure::handed_over($signature)
        }

        #[export_name = "run"]
        pub extern "C" fn exported_run() -> *const $crate::procedure::Outcome {
            $crate::procedure::outcome($run())
        }
    };
}
