// npm leaves packages for other platforms out of the lock where the registry it asks lacks them, and
// `npm ci` then refuses the lock. This adds them by name and version, so that the lock is whole on every
// machine. Run after `npm install`: node tools/complete-lock.mjs
import { readFileSync, writeFileSync } from "node:fs";

const file = new URL("../package-lock.json", import.meta.url);
const lock = JSON.parse(readFileSync(file, "utf8"));
const systems = ["android", "darwin", "freebsd", "linux", "netbsd", "openbsd", "openharmony", "sunos", "win32"];
const processors = ["arm64", "arm", "x64", "ia32", "loong64", "mips64el", "ppc64", "riscv64", "s390x", "wasm32"];
let added = 0;
for (const [place, entry] of Object.entries(lock.packages)) {
  for (const [name, version] of Object.entries(entry.optionalDependencies ?? {})) {
    const hoisted = `node_modules/${name}`;
    if (lock.packages[hoisted] || lock.packages[`${place}/node_modules/${name}`]) continue;
    const parts = name.split(/[/-]/);
    const os = systems.filter((system) => parts.includes(system));
    const cpu = processors.filter((processor) => parts.includes(processor));
    const libc = parts.includes("musl") ? ["musl"] : parts.includes("gnu") ? ["glibc"] : undefined;
    lock.packages[hoisted] = { version, dev: true, optional: true, ...(os.length && { os }), ...(cpu.length && { cpu }), ...(libc && { libc }) };
    added += 1;
  }
}
lock.packages = Object.fromEntries(Object.entries(lock.packages).sort(([a], [b]) => (a < b ? -1 : 1)));
writeFileSync(file, `${JSON.stringify(lock, null, 2)}\n`);
console.log(`${added} packages of other platforms added`);
