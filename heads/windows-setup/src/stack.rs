//! What the compiler calls before a function takes much of the stack: each page is touched in order, so that the system
//! makes it. The calling rules are those of Windows' own documentation for each processor.

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
