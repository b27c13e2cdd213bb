// Tests of what the page works out by itself: bundles parts.test.ts as the page is bundled, and runs it.
import { spawnSync } from 'node:child_process';
import { mkdtempSync, rmSync } from 'node:fs';
import { createRequire } from 'node:module';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

const here = dirname(fileURLToPath(import.meta.url));
const modules = join(here, '../../apps/console/node_modules');
const { buildSync } = createRequire(join(modules, 'any.js'))('esbuild');
const folder = mkdtempSync(join(tmpdir(), 'zunth-parts-'));
const outfile = join(folder, 'parts.cjs');
buildSync({ entryPoints: [join(here, 'parts.test.ts')], outfile, bundle: true, platform: 'node', format: 'cjs', jsx: 'automatic', nodePaths: [modules], logLevel: 'error' });
const { status } = spawnSync(process.execPath, ['--test', outfile], { stdio: 'inherit' });
rmSync(folder, { recursive: true });
process.exit(status ?? 1);
