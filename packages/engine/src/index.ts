export * from './compare/broken-masks.js';
export * from './compare/environments.js';
export * from './compare/former.js';
export * from './compare/impact.js';
export * from './compare/lookups.js';
export * from './compare/plan.js';
export { isUnwritten, type Standing } from './compare/standing.js';
export { ChangeRecords } from './compare/unlike-records.js';
export { AdvancedParts, advanceImage } from './copy/advance-image.js';
export * from './copy/build.js';
export type { FilePlan } from './copy/files.js';
export { type CopyImages, type PackedFile, packSpools } from './copy/pack.js';
export { PackedHashes } from './copy/packed-hashes.js';
export * from './copy/sources.js';
export { takeParts } from './copy/take.js';
export * from './copy/traces.js';
export * from './deliver/collected-rows.js';
export { drawKeys } from './deliver/draw-keys.js';
export { checkInPlace, isInPlace, writeInPlace } from './deliver/kept-files.js';
export * from './deliver/misfits.js';
export * from './deliver/prove-rows.js';
export { asReadBack, readBackChanges } from './deliver/read-back.js';
export * from './deliver/row-application.js';
export * from './deliver/stage-tree.js';
export { lookAtSite } from './look/site.js';
export { sampleValues, type TableHistory } from './look/tables.js';
export * from './ports/database.js';
export * from './ports/errors.js';
export type { NewObject, ObjectPlace, ObjectStore, OpenObject } from './ports/objects.js';
export { newPassword } from './ports/passwords.js';
export { folderOf, showPath } from './ports/paths.js';
export * from './ports/progress.js';
export * from './ports/rows.js';
export * from './ports/server.js';
export * from './ports/shapes.js';
export * from './site/environment.js';
export type { LeftOut } from './site/left-out.js';
export * from './site/list-root.js';
export { FileForm, walkRoot } from './site/root-reader.js';
export { keptLinks, makeMove, movesOf } from './site/taking-layout.js';
export {
  calledPlace,
  fingerprintOf,
  hostKeyOf,
  newLoginKey,
  publicHalfOf,
  type SshPlace,
  type SshReach,
  tryLogin,
} from './ssh/link.js';
export * from './store/library.js';
export * from './store/pack-store.js';
export type { PackWriter } from './store/pack-writer.js';
export { readListing, readPieces } from './store/read-tree.js';
export { imageRowsOf } from './store/row-image.js';
export { openBytes, sealBytes } from './store/sealed.js';
export { SealedFile } from './store/sealed-file.js';
export { syncSpool } from './store/spool.js';
export { connectServer, databaseSystem, openObjects, USUAL_SYSTEM } from './systems.js';
