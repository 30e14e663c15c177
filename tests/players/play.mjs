// Plays GLB files with three.js, without a screen: where every vertex is at given times.
//
// node play.mjs OUT TIMES FILE: writes to OUT, for each time (s, by commas, of the first clip, which goes round), the
// places of all vertices of all meshes as float64 x, y, z in metres, mesh after mesh in the order of the nodes, and
// prints as JSON the name and the number of vertices of each mesh, and the clip's length.
import { readFileSync, writeFileSync } from 'node:fs';
globalThis.self = globalThis;
const THREE = await import('three');
const { GLTFLoader } = await import('three/addons/loaders/GLTFLoader.js');

const [out, times, file] = process.argv.slice(2);
const bytes = readFileSync(file);
const loader = new GLTFLoader();
// pictures need a screen, and move nothing
loader.register(() => ({ name: 'no pictures', loadTexture: () => Promise.resolve(new THREE.Texture()) }));
const gltf = await loader.parseAsync(bytes.buffer.slice(bytes.byteOffset, bytes.byteOffset + bytes.length), '');
const mixer = new THREE.AnimationMixer(gltf.scene);
const clip = gltf.animations[0];
if (clip) mixer.clipAction(clip).play();
const meshes = [];
gltf.scene.traverse((o) => { if (o.isMesh) meshes.push(o); });
const counts = meshes.map((m) => m.geometry.attributes.position.count * (m.isInstancedMesh ? m.count : 1));
const total = counts.reduce((a, b) => a + b, 0);
const at = times.split(',').map(Number);
const found = new Float64Array(at.length * total * 3);
const v = new THREE.Vector3(), own = new THREE.Matrix4();
let k = 0;
for (const time of at) {
  mixer.setTime(time);
  gltf.scene.updateMatrixWorld(true);
  for (const mesh of meshes) {
    const world = mesh.matrixWorld;
    for (let c = 0; c < (mesh.isInstancedMesh ? mesh.count : 1); c++) {
      if (mesh.isInstancedMesh) mesh.getMatrixAt(c, own);
      for (let i = 0; i < mesh.geometry.attributes.position.count; i++) {
        mesh.getVertexPosition(i, v);
        if (mesh.isInstancedMesh) v.applyMatrix4(own);
        v.applyMatrix4(world);
        found[k++] = v.x; found[k++] = v.y; found[k++] = v.z;
      }
    }
  }
}
writeFileSync(out, Buffer.from(found.buffer));
const materials = meshes.map((m) => ({ name: m.material.name, roughness: m.material.roughness, metalness: m.material.metalness }));
console.log(JSON.stringify({ names: meshes.map((m) => m.name), counts, seconds: clip ? clip.duration : 0, materials,
  morphs: meshes.map((m) => Object.keys(m.morphTargetDictionary ?? {})) }));
