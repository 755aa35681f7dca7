//! What the compiler calls behind the back of the code. Before a function takes much of the stack each page is touched in
//! order, so that the system makes it. The calling rules are those of Windows' own documentation for each processor.

#[cfg(target_arch = "x86_64")]
core::arch::global_asm!(
    ".globl __chkstk",
    "__chkstk:",
    "push rcx",
    "push rax",
    "cmp rax, 0x1000",
    "lea rcx, [rsp + 24]",
    "jb 3f",
    "2:",
    "sub rcx, 0x1000",
    "test [rcx], rcx",
    "sub rax, 0x1000",
    "cmp rax, 0x1000",
    "ja 2b",
    "3:",
    "sub rcx, rax",
    "test [rcx], rcx",
    "pop rax",
    "pop rcx",
    "ret",
);

// Here it moves the stack's end too.
#[cfg(target_arch = "x86")]
core::arch::global_asm!(
    ".globl __chkstk",
    "__chkstk:",
    "push ecx",
    "cmp eax, 0x1000",
    "lea ecx, [esp + 8]",
    "jb 3f",
    "2:",
    "sub ecx, 0x1000",
    "test [ecx], ecx",
    "sub eax, 0x1000",
    "cmp eax, 0x1000",
    "ja 2b",
    "3:",
    "sub ecx, eax",
    "test [ecx], ecx",
    "lea eax, [esp + 4]",
    "mov esp, ecx",
    "mov ecx, [eax - 4]",
    "push [eax]",
    "ret",
);

// The size comes in units of 16 bytes.
#[cfg(target_arch = "aarch64")]
core::arch::global_asm!(
    ".globl __chkstk",
    "__chkstk:",
    "lsl x16, x15, #4",
    "mov x17, sp",
    "2:",
    "sub x17, x17, #4096",
    "subs x16, x16, #4096",
    "ldr xzr, [x17]",
    "b.gt 2b",
    "ret",
);

/// Division of 64-bit numbers on processors that have none, as the compiler calls it: quotient and remainder, by
/// shifting and subtracting.
#[cfg(target_arch = "x86")]
mod division {
    fn divided(mut a: u64, b: u64) -> (u64, u64) {
        let (mut quotient, mut bit, mut b) = (0, 1u64, b);
        // No number is divided by zero: the compiler checks before.
        while b < a && b >> 63 == 0 {
            b <<= 1;
            bit <<= 1;
        }
        while bit != 0 {
            if a >= b {
                a -= b;
                quotient |= bit;
            }
            b >>= 1;
            bit >>= 1;
        }
        (quotient, a)
    }

    #[no_mangle]
    extern "C" fn quotient_of(a: u64, b: u64) -> u64 {
        divided(a, b).0
    }

    #[no_mangle]
    extern "C" fn remainder_of(a: u64, b: u64) -> u64 {
        divided(a, b).1
    }

    // The caller's arguments are taken off the stack here, not by the caller.
    core::arch::global_asm!(
        ".globl __aulldiv",
        "__aulldiv:",
        "push [esp + 16]",
        "push [esp + 16]",
        "push [esp + 16]",
        "push [esp + 16]",
        "call _quotient_of",
        "add esp, 16",
        "ret 16",
        ".globl __aullrem",
        "__aullrem:",
        "push [esp + 16]",
        "push [esp + 16]",
        "push [esp + 16]",
        "push [esp + 16]",
        "call _remainder_of",
        "add esp, 16",
        "ret 16",
    );
}
