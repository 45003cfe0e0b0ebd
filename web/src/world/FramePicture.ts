import * as THREE from 'three'

/** The photo that the chosen camera carries: one at a time, kept until another one has come. */
export class FramePicture {
  picture: THREE.Texture | null = null
  private address: string | null = null
  private readonly loader = new THREE.TextureLoader()

  /** Fetch the picture of an address, and say when it is there; none takes the picture away. */
  show(address: string | null, come: () => void) {
    if (address === this.address) return
    this.address = address
    this.drop()
    if (!address) return
    this.loader.load(address, (texture) => {
      if (address !== this.address) return texture.dispose()
      texture.colorSpace = THREE.SRGBColorSpace
      this.picture = texture
      come()
    })
  }

  private drop() {
    this.picture?.dispose()
    this.picture = null
  }

  dispose() {
    this.address = null
    this.drop()
  }
}
