/* A stand-in for a USB card reader with a card in it: \\.\PhysicalDrive7 with the volume X:, as a kernel driver that Wine's winedevice.exe loads. What it
   answers is our reading of Microsoft's documentation.

   BACKING names the file that keeps what the card holds, CONTROL one with numbers of 4 bytes, which is read at each request:
   0: 1 if there is no card; 1: a sector that fails, 0 for none; 2: the real size in sectors, 0 for all (addresses repeat); 3: the size that is claimed, in
   sectors, read at the start; 4: 1 if it is write-protected; 5: after how many sectors written it is gone, 0 for
   never; 6: 1 if the volume can't be taken out of use.
   It refuses to be dismounted, not to be locked, as Wine answers the latter by itself. */
#include <ntddk.h>
#include <ntdddisk.h>
#include <ntddstor.h>
#define SECTOR 512
#define VOLSTART (1024*1024)
#define VOLSIZE (16*1024*1024)
typedef struct { int volume; } EXT;
typedef struct { ULONG gone, bad, real, claimed, locked, after, busy; } CONTROLS;
static HANDLE file, control;
static LONGLONG size;
static int dismounted, ejected, changes = 1;
static LONGLONG written;
static CONTROLS now;
static DEVICE_OBJECT *disk, *vol;

static NTSTATUS done(IRP *irp, NTSTATUS s, ULONG_PTR n){ irp->IoStatus.Status = s; irp->IoStatus.Information = n; IoCompleteRequest(irp, IO_NO_INCREMENT); return s; }
static NTSTATUS NTAPI ok(DEVICE_OBJECT *d, IRP *irp){ return done(irp, STATUS_SUCCESS, 0); }

/* look reads what is asked of the stand-in */
static void look(void){
  IO_STATUS_BLOCK io; LARGE_INTEGER at; ULONG was = now.gone;
  at.QuadPart = 0;
  if (ZwReadFile(control, 0, 0, 0, &io, &now, sizeof now, &at, 0)) return;
  if (now.after && written >= now.after) now.gone = 1;
  if (was && !now.gone) { changes++; ejected = 0; dismounted = 0; }
}

static NTSTATUS NTAPI rw(DEVICE_OBJECT *d, IRP *irp){
  IO_STACK_LOCATION *s = IoGetCurrentIrpStackLocation(irp);
  int w = s->MajorFunction == IRP_MJ_WRITE, v = ((EXT*)d->DeviceExtension)->volume;
  LARGE_INTEGER off = w ? s->Parameters.Write.ByteOffset : s->Parameters.Read.ByteOffset;
  ULONG len = w ? s->Parameters.Write.Length : s->Parameters.Read.Length, done_ = 0;
  IO_STATUS_BLOCK io; NTSTATUS st = STATUS_SUCCESS; LONGLONG end = v ? VOLSIZE : size;
  look();
  if (ejected || now.gone) return done(irp, STATUS_NO_MEDIA_IN_DEVICE, 0);
  if (off.QuadPart % SECTOR || len % SECTOR) return done(irp, STATUS_INVALID_PARAMETER, 0);
  if (off.QuadPart + (LONGLONG)len > end) { if (off.QuadPart >= end) return done(irp, w ? STATUS_INVALID_PARAMETER : STATUS_END_OF_FILE, 0); len = end - off.QuadPart; }
  if (v) off.QuadPart += VOLSTART;
  if (w && now.locked) return done(irp, STATUS_MEDIA_WRITE_PROTECTED, 0);
  /* as Windows: sectors of a mounted volume can't be written by way of the disk */
  if (w && !dismounted && !v && off.QuadPart + len > VOLSTART && off.QuadPart < VOLSTART + VOLSIZE) return done(irp, STATUS_ACCESS_DENIED, 0);
  if (now.bad && off.QuadPart <= (LONGLONG)now.bad * SECTOR && (LONGLONG)now.bad * SECTOR < off.QuadPart + len) return done(irp, STATUS_DEVICE_DATA_ERROR, 0);
  while (!st && done_ < len) {
    LARGE_INTEGER at = off; ULONG n = len - done_; char *b = (char*)irp->AssociatedIrp.SystemBuffer + done_;
    at.QuadPart += done_;
    if (now.real) { LONGLONG real = (LONGLONG)now.real * SECTOR; at.QuadPart %= real; if (n > real - at.QuadPart) n = real - at.QuadPart; }
    st = w ? ZwWriteFile(file, 0, 0, 0, &io, b, n, &at, 0) : ZwReadFile(file, 0, 0, 0, &io, b, n, &at, 0);
    done_ += n;
  }
  if (w) written += len / SECTOR;
  return done(irp, st, st ? 0 : len);
}

static NTSTATUS answer(IRP *irp, ULONG out, const void *b, ULONG n){
  if (out < n) return done(irp, STATUS_BUFFER_TOO_SMALL, 0);
  RtlCopyMemory(irp->AssociatedIrp.SystemBuffer, b, n);
  return done(irp, STATUS_SUCCESS, n);
}

static NTSTATUS NTAPI ctl(DEVICE_OBJECT *d, IRP *irp){
  IO_STACK_LOCATION *s = IoGetCurrentIrpStackLocation(irp);
  ULONG out = s->Parameters.DeviceIoControl.OutputBufferLength, code = s->Parameters.DeviceIoControl.IoControlCode;
  char *b = irp->AssociatedIrp.SystemBuffer; int v = ((EXT*)d->DeviceExtension)->volume, gone;
  look();
  gone = ejected || now.gone;
  switch (code) {
  case IOCTL_DISK_GET_LENGTH_INFO: { LONGLONG n = v ? VOLSIZE : size; return gone ? done(irp, STATUS_NO_MEDIA_IN_DEVICE, 0) : answer(irp, out, &n, 8); }
  case 0x700A0: { char g[40]; RtlZeroMemory(g, 40); *(LONGLONG*)g = size/SECTOR/63/255; *(ULONG*)(g+8) = 11; *(ULONG*)(g+12) = 255; *(ULONG*)(g+16) = 63; *(ULONG*)(g+20) = SECTOR; *(LONGLONG*)(g+24) = size;
    return gone ? done(irp, STATUS_NO_MEDIA_IN_DEVICE, 0) : answer(irp, out, g, 40); }
  case IOCTL_STORAGE_GET_DEVICE_NUMBER: { ULONG n[3] = { 7, 7, v }; return answer(irp, out, n, 12); }
  case 0x560000: { ULONG e[8] = { 1, 0, 7, 0, VOLSTART, 0, VOLSIZE, 0 };
    if (!v) return done(irp, STATUS_INVALID_DEVICE_REQUEST, 0);
    return gone ? done(irp, STATUS_NO_MEDIA_IN_DEVICE, 0) : answer(irp, out, e, 32); }
  case IOCTL_STORAGE_QUERY_PROPERTY: { ULONG id = *(ULONG*)b;
    if (id == 0) { static const char v_[] = "Brindle", p_[] = "Card Reader", r_[] = "1.00", s_[] = "TS16-77"; char t[128]; ULONG n = 36 + sizeof v_ + sizeof p_ + sizeof r_ + sizeof s_, o = 36; RtlZeroMemory(t, 128);
      *(ULONG*)t = 40; *(ULONG*)(t+4) = n; t[10] = 1; *(ULONG*)(t+12) = o; RtlCopyMemory(t+o, v_, sizeof v_); o += sizeof v_; *(ULONG*)(t+16) = o; RtlCopyMemory(t+o, p_, sizeof p_); o += sizeof p_; *(ULONG*)(t+20) = o; RtlCopyMemory(t+o, r_, sizeof r_); o += sizeof r_; *(ULONG*)(t+24) = o; RtlCopyMemory(t+o, s_, sizeof s_); *(ULONG*)(t+28) = 7; /* BusTypeUsb */
      if (out > n) out = n;
      RtlCopyMemory(b, t, out); return done(irp, STATUS_SUCCESS, out); }
    return done(irp, STATUS_INVALID_DEVICE_REQUEST, 0); }
  case 0x2D0800: return gone ? done(irp, STATUS_NO_MEDIA_IN_DEVICE, 0) : out >= 4 ? answer(irp, out, &changes, 4) : done(irp, STATUS_SUCCESS, 0);
  case IOCTL_STORAGE_CHECK_VERIFY: return done(irp, gone ? STATUS_NO_MEDIA_IN_DEVICE : STATUS_SUCCESS, 0);
  case IOCTL_DISK_IS_WRITABLE: return done(irp, now.locked ? STATUS_MEDIA_WRITE_PROTECTED : STATUS_SUCCESS, 0);
  case 0x70140: dismounted = 0; return done(irp, STATUS_SUCCESS, 0); /* its table is read again, and its volume mounted */
  case 0x2D4804: return done(irp, STATUS_SUCCESS, 0);
  case IOCTL_STORAGE_EJECT_MEDIA: ejected = 1; return done(irp, STATUS_SUCCESS, 0);
  case 0x90018: return done(irp, STATUS_SUCCESS, 0);
  case 0x90020: if (now.busy) return done(irp, STATUS_ACCESS_DENIED, 0); dismounted = 1; return done(irp, STATUS_SUCCESS, 0);
  case 0x90083: return done(irp, STATUS_SUCCESS, 0);
  }
  return done(irp, STATUS_INVALID_DEVICE_REQUEST, 0);
}
static void NTAPI unload(DRIVER_OBJECT *drv){}

static NTSTATUS make(DRIVER_OBJECT *drv, const WCHAR *name, const WCHAR *link, int volume, DEVICE_OBJECT **dev){
  UNICODE_STRING n, l; NTSTATUS s; RtlInitUnicodeString(&n, name); RtlInitUnicodeString(&l, link);
  s = IoCreateDevice(drv, sizeof(EXT), &n, FILE_DEVICE_DISK, FILE_REMOVABLE_MEDIA, FALSE, dev); if (s) return s;
  ((EXT*)(*dev)->DeviceExtension)->volume = volume; (*dev)->Flags |= DO_BUFFERED_IO; (*dev)->Flags &= ~DO_DEVICE_INITIALIZING;
  return IoCreateSymbolicLink(&l, &n);
}
static NTSTATUS open(const WCHAR *path, HANDLE *to){
  UNICODE_STRING n; OBJECT_ATTRIBUTES a; IO_STATUS_BLOCK io; RtlInitUnicodeString(&n, path);
  InitializeObjectAttributes(&a, &n, OBJ_CASE_INSENSITIVE, 0, 0);
  return ZwCreateFile(to, GENERIC_READ|GENERIC_WRITE|SYNCHRONIZE, &a, &io, 0, 0, FILE_SHARE_READ|FILE_SHARE_WRITE, FILE_OPEN, FILE_SYNCHRONOUS_IO_NONALERT, 0, 0);
}
NTSTATUS NTAPI DriverEntry(DRIVER_OBJECT *drv, UNICODE_STRING *path){
  IO_STATUS_BLOCK io; FILE_STANDARD_INFORMATION info; NTSTATUS s;
  if ((s = open(BACKING, &file)) || (s = open(CONTROL, &control))) return s;
  if ((s = ZwQueryInformationFile(file, &io, &info, sizeof info, FileStandardInformation))) return s;
  look();
  size = now.claimed ? (LONGLONG)now.claimed * SECTOR : info.EndOfFile.QuadPart;
  drv->MajorFunction[IRP_MJ_CREATE] = ok; drv->MajorFunction[IRP_MJ_CLOSE] = ok; drv->MajorFunction[IRP_MJ_CLEANUP] = ok; drv->MajorFunction[IRP_MJ_FLUSH_BUFFERS] = ok;
  drv->MajorFunction[IRP_MJ_READ] = rw; drv->MajorFunction[IRP_MJ_WRITE] = rw;
  drv->MajorFunction[IRP_MJ_DEVICE_CONTROL] = ctl; drv->MajorFunction[IRP_MJ_FILE_SYSTEM_CONTROL] = ctl; drv->DriverUnload = unload;
  if ((s = make(drv, L"\\Device\\Harddisk7", L"\\DosDevices\\PhysicalDrive7", 0, &disk))) return s;
  return make(drv, L"\\Device\\HarddiskVolume77", L"\\DosDevices\\X:", 1, &vol);
}
