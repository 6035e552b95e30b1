import { nameParts } from './layer-names';

/** What an entry of a layer is (OCI image specification, layer.md, "File Types"). */
export type MemberKind = 'file' | 'folder' | 'symlink' | 'hardlink' | 'device' | 'fifo';

/** One entry of a layer. */
export interface LayerMember {
  /** As the layer names it, in its one form: no `/` at either end, no `.` or `..` in it. */
  readonly path: string;
  readonly kind: MemberKind;
  /** Bytes of a file; 0 of all else. */
  readonly size: number;
  /** Permissions, set-uid and the like. */
  readonly mode: number;
  /** What a link leads to, as it stands in the layer. */
  readonly link: string | undefined;
  /** The digest of the content of a file, where it was asked for. */
  readonly content?: string | undefined;
}

/** Something at a path of an image. */
export interface TreeNode extends Omit<LayerMember, 'path'> {
  /** The number of the layer that brought it, from 0. */
  readonly layer: number;
  /** What is in a folder. */
  readonly children: Map<string, TreeNode> | undefined;
  /** The same for every name of one file: how many show it. */
  readonly file: { names: number };
}

/** What a layer brought and a later one took away, or wrote over: it is shipped, and nobody sees it. */
export interface HiddenFile {
  readonly path: string;
  readonly size: number;
  readonly layer: number;
  /** The layer that hides it. */
  readonly by: number;
  readonly how: 'deleted' | 'overwritten';
}

/**
 * Linux follows no more.
 * @limit symbolic links on the way to a file in an image | links | the link is not followed further
 */
const linkLimit = 40;
const whiteout = '.wh.';
const opaque = '.wh..wh..opq';

/**
 * The files of an image as its layers make them, one laid over the other (OCI image specification, layer.md, "Applying
 * Changesets"): what is in a layer stands in the place of what was there, folders are merged, a whiteout removes what earlier
 * layers brought, an opaque one all of it in a folder. It does not matter where in a layer a whiteout stands.
 */
export class LayerTree {
  readonly root: TreeNode = folder(0, 0o755);
  private readonly gone: (HiddenFile & { readonly file: TreeNode['file'] })[] = [];
  /** The layer that last removed everything of earlier ones from a folder: to do so again would find nothing. */
  private readonly cleared = new Map<object, number>();
  private layer = -1;
  /** How many files and folders it was ever made of, with those that no layer names. */
  made = 0;

  /** What is shipped and not seen, by no name: a file that another name shows is not hidden. */
  get hidden(): HiddenFile[] {
    return this.gone.flatMap(({ file, ...hidden }) => (file.names === 0 ? [hidden] : []));
  }

  /** Begins the next layer. */
  nextLayer(): void {
    this.layer += 1;
  }

  /** Lays an entry of the present layer over what is there. */
  add(member: LayerMember): void {
    const parts = nameParts(member.path);
    const name = parts.pop();
    if (name === undefined) {
      return;
    }
    const at = this.folderAt(parts);
    if (name === opaque) {
      this.removeBelow(at.children, at.path);
    } else if (name.startsWith(whiteout)) {
      // `.wh..wh.` begins names that builders keep for themselves.
      if (!name.startsWith(`${whiteout}${whiteout}`)) {
        this.remove(at.children, at.path, name.slice(whiteout.length));
      }
    } else {
      this.put(at.children, at.path, name, member);
    }
  }

  private put(siblings: Map<string, TreeNode>, path: string, name: string, member: LayerMember): void {
    const before = siblings.get(name);
    const { kind, mode, link, content } = member;
    // A hard link is as large as what it is a name of, and ships nothing.
    const linked = kind === 'hardlink' ? this.find(link ?? '') : undefined;
    const size = kind === 'hardlink' ? (linked?.size ?? 0) : member.size;
    const keeps = kind === 'folder' && before?.kind === 'folder';
    if (before !== undefined && !keeps) {
      this.hide(before, join(path, name), 'overwritten');
    }
    const children = keeps ? before.children : kind === 'folder' ? new Map<string, TreeNode>() : undefined;
    const file = linked?.file ?? { names: 0 };
    file.names += 1;
    this.made += 1;
    siblings.set(name, { kind, size, mode, link, content, layer: this.layer, children, file });
  }

  /** Removes what earlier layers have under a name. What this layer brought stays. */
  private remove(siblings: Map<string, TreeNode>, path: string, name: string): void {
    const node = siblings.get(name);
    if (node?.children !== undefined) {
      this.removeBelow(node.children, join(path, name));
    }
    if (node !== undefined && node.layer < this.layer && (node.children?.size ?? 0) === 0) {
      this.hide(node, join(path, name), 'deleted');
      siblings.delete(name);
    }
  }

  private removeBelow(children: Map<string, TreeNode>, path: string): void {
    if (this.cleared.get(children) === this.layer) {
      return;
    }
    this.cleared.set(children, this.layer);
    for (const name of [...children.keys()]) {
      this.remove(children, path, name);
    }
  }

  private hide(node: TreeNode, path: string, how: HiddenFile['how']): void {
    node.file.names -= 1;
    if (node.kind === 'file') {
      this.gone.push({ file: node.file, path, size: node.size, layer: node.layer, by: this.layer, how });
    }
    node.children?.forEach((child, name) => {
      this.hide(child, join(path, name), how);
    });
  }

  /** The folder at a path, by way of links that are there; one that no layer names is made. */
  private folderAt(parts: readonly string[]): { children: Map<string, TreeNode>; path: string } {
    let way: { name: string; children: Map<string, TreeNode> }[] = [];
    let children = childrenOf(this.root);
    const left = [...parts].reverse();
    let links = 0;
    for (let name = left.pop(); name !== undefined; name = left.pop()) {
      const node = children.get(name);
      if (node?.kind === 'symlink' && node.link !== undefined && links < linkLimit) {
        links += 1;
        // A link leads from where it stands, or from the root of the image, and never out of it.
        const target = nameParts(
          `${node.link.startsWith('/') ? '' : `${way.map((each) => each.name).join('/')}/`}${node.link}`,
        );
        for (const each of target.reverse()) {
          left.push(each);
        }
        way = [];
        children = childrenOf(this.root);
        continue;
      }
      if (node?.children === undefined) {
        if (node !== undefined) {
          this.hide(node, join(way.map((each) => each.name).join('/'), name), 'overwritten');
        }
        const made = folder(this.layer, 0o755);
        this.made += 1;
        children.set(name, made);
        way.push({ name, children });
        children = childrenOf(made);
      } else {
        way.push({ name, children });
        children = node.children;
      }
    }
    return { children, path: way.map(({ name }) => name).join('/') };
  }

  /** What is at a path. */
  find(path: string): TreeNode | undefined {
    let node: TreeNode | undefined = this.root;
    for (const name of nameParts(path)) {
      node = node?.children?.get(name);
    }
    return node;
  }

  /** Everything that is there, folders before what is in them, by name. */
  *paths(): Generator<readonly [path: string, node: TreeNode]> {
    yield* below(this.root, '');
  }
}

function* below(node: TreeNode, path: string): Generator<readonly [string, TreeNode]> {
  const names = [...(node.children?.keys() ?? [])].sort();
  for (const name of names) {
    const child = node.children?.get(name);
    if (child !== undefined) {
      yield [join(path, name), child];
      yield* below(child, join(path, name));
    }
  }
}

function folder(layer: number, mode: number): TreeNode {
  return { kind: 'folder', size: 0, mode, link: undefined, layer, children: new Map(), file: { names: 1 } };
}

function childrenOf({ children }: TreeNode): Map<string, TreeNode> {
  return children ?? new Map<string, TreeNode>();
}

function join(path: string, name: string): string {
  return path === '' ? name : `${path}/${name}`;
}
