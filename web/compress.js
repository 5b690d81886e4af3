// Puts compressed copies beside each text of the build, which the service sends to browsers that take them.
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, constants, gzipSync } from "node:zlib";

for (const entry of readdirSync("dist", { recursive: true, withFileTypes: true })) {
	if (!entry.isFile() || !/\.(js|css|html|svg|json|webmanifest)$/.test(entry.name)) continue;
	const file = join(entry.parentPath, entry.name);
	const text = readFileSync(file);
	if (text.length < 1024) continue;
	writeFileSync(`${file}.gz`, gzipSync(text, { level: 9 }));
	const quality = { [constants.BROTLI_PARAM_QUALITY]: constants.BROTLI_MAX_QUALITY };
	writeFileSync(`${file}.br`, brotliCompressSync(text, { params: quality }));
}
