//! Writes classes of a few methods that only return something: in place of classes that a smaller runtime has no use for.

/// A static method without parameters.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Method<'n> {
    /// Its name.
    pub name: &'n str,
    /// The type that it returns, as a descriptor: `[Ljava/lang/String;`.
    pub returned: &'n str,
    /// What it returns.
    pub returns: Returns<'n>,
}

/// What a method returns.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Returns<'n> {
    /// `null`.
    Nothing,
    /// An array of a class, with nothing in it.
    EmptyArray(&'n str),
}

const STATIC: u16 = 0x0008;
const FINAL_AND_SUPER: u16 = 0x0030;
/// Of Java 8: without tables that say what is on the stack where, as these methods have no branches.
const VERSION: u16 = 52;
const OBJECT: &str = "java/lang/Object";

#[derive(Default)]
struct Pool {
    count: u16,
    bytes: Vec<u8>,
}

impl Pool {
    /// A text; names of the few classes and methods are shorter than 64 KiB.
    fn utf8(&mut self, text: &str) -> u16 {
        self.bytes.push(1);
        self.bytes.extend((text.len() as u16).to_be_bytes());
        self.bytes.extend(text.as_bytes());
        self.count += 1;
        self.count
    }

    fn class(&mut self, name: &str) -> u16 {
        let name = self.utf8(name);
        self.bytes.push(7);
        self.bytes.extend(name.to_be_bytes());
        self.count += 1;
        self.count
    }
}

/// The class file of a class with some methods.
pub fn simple(name: &str, methods: &[Method]) -> Vec<u8> {
    let mut pool = Pool::default();
    let (own, above, code_name) = (pool.class(name), pool.class(OBJECT), pool.utf8("Code"));
    let mut all = Vec::new();
    for method in methods {
        let code: Vec<u8> = match method.returns {
            // aconst_null, areturn
            Returns::Nothing => vec![0x01, 0xb0],
            Returns::EmptyArray(of) => {
                let [high, low] = pool.class(of).to_be_bytes();
                // iconst_0, anewarray, areturn
                vec![0x03, 0xbd, high, low, 0xb0]
            }
        };
        let (name, descriptor) = (pool.utf8(method.name), pool.utf8(&format!("(){}", method.returned)));
        all.extend([STATIC, name, descriptor, 1, code_name].iter().flat_map(|n| n.to_be_bytes()));
        all.extend((code.len() as u32 + 12).to_be_bytes());
        // One place on the stack, no variables.
        all.extend([1u16, 0].iter().flat_map(|n| n.to_be_bytes()));
        all.extend((code.len() as u32).to_be_bytes());
        all.extend(code);
        // No handlers, no attributes.
        all.extend([0; 4]);
    }
    let mut bytes = 0xCAFE_BABEu32.to_be_bytes().to_vec();
    bytes.extend([0, VERSION, pool.count + 1].iter().flat_map(|n| n.to_be_bytes()));
    bytes.extend(pool.bytes);
    bytes.extend([FINAL_AND_SUPER, own, above, 0, 0, methods.len() as u16].iter().flat_map(|n| n.to_be_bytes()));
    bytes.extend(all);
    bytes.extend([0; 2]);
    bytes
}
